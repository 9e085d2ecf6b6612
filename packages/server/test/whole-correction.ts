import type { Correction, CorrectionItem } from '@spoor/contract'
import { readCorrection } from '../src/corrections/shown.ts'
import { listItems } from '../src/corrections/store.ts'
import type { SignedIn } from '../src/http/bind.ts'
import type { World } from './support.ts'

export type WholeCorrection = Correction & { items: CorrectionItem[] }

/** A correction with all of its values, page by page. */
export async function wholeCorrection({ db }: World, correctionId: number): Promise<WholeCorrection> {
  const items: CorrectionItem[] = []
  for (let after: number | null = 0; after !== null;) {
    const page: Awaited<ReturnType<typeof listItems>> = await listItems(db, correctionId, { after })
    items.push(...page.items)
    after = page.next
  }
  return { ...(await readCorrection(db, correctionId)), items }
}

let others = 0
/** Somebody who drafted nothing, for what takes two. */
export async function secondPerson({ people }: World): Promise<SignedIn> {
  const login = `second${++others}`
  await people.add({ login, name: `Second ${others}`, role: 'administrator', password: `password of ${login}` })
  return (await people.authenticate(login, `password of ${login}`))!
}
