/** What Spoor tells of a record; `docs/panel.md` has every part of it. */
interface Story {
  typeName: string
  label: string
  fields: { id: number; name: string }[]
  saves: {
    id: string
    at: string
    action: 'create' | 'change' | 'delete'
    by: string
    claimed: boolean
    channel: string
    reason: string | null
    changes: {
      fieldId: number
      before: string | null
      after: string | null
      hidden: 'erased' | 'masked' | null
      beforeLabel: string | null
      afterLabel: string | null
    }[]
  }[]
  more: boolean
  partial: boolean
  zone: string | null
}
type Save = Story['saves'][number]
type Change = Save['changes'][number]

const style = `
:host { display: block; font: 14px/1.45 system-ui, sans-serif; color: #17211e; }
section { border: 1px solid #d9ddd8; background: #fff; padding: 10px 14px; }
h3 { font-size: 15px; margin: 0; display: inline; }
header { display: flex; flex-wrap: wrap; gap: 4px 14px; align-items: baseline; margin-bottom: 6px; }
select, button { font: inherit; }
ol { list-style: none; margin: 0; padding: 0; max-height: 420px; overflow: auto; }
li { border-top: 1px solid #e6e9e5; padding: 6px 0; }
.quiet { color: #56615c; }
dl { display: grid; grid-template-columns: minmax(90px, auto) 1fr; gap: 1px 12px; margin: 3px 0 0; }
dd { margin: 0; overflow-wrap: anywhere; }
s { color: #56615c; text-decoration-thickness: 1px; }
.failure { color: #a3271f; }
`
const acts = { create: 'created', change: 'changed', delete: 'deleted' } as const
const shownAtMost = 300

/** An element with text; whatever values hold stays text. */
function made(name: string, text = '', className = ''): HTMLElement {
  const element = document.createElement(name)
  element.textContent = text
  if (className !== '') element.className = className
  return element
}

/**
 * `<spoor-trail spoor="https://spoor.example" ticket="…">`: the changes of one record on a business application's own page,
 * with who, when and why, to be narrowed to one field. It shows what the ticket's person may see and nothing else.
 */
export class SpoorTrail extends HTMLElement {
  static readonly observedAttributes = ['ticket', 'spoor']
  readonly #root = this.attachShadow({ mode: 'open' })
  #field = ''
  #asked: AbortController | undefined

  connectedCallback(): void {
    void this.#load()
  }

  attributeChangedCallback(_name: string, before: string | null, after: string | null): void {
    if (this.isConnected && before !== null && before !== after) void this.#load()
  }

  disconnectedCallback(): void {
    this.#asked?.abort()
  }

  async #load(): Promise<void> {
    this.#asked?.abort()
    const { signal } = (this.#asked = new AbortController())
    this.#show(made('p', 'Reading the trail …', 'quiet'))
    try {
      const query = this.#field === '' ? '' : `?field=${encodeURIComponent(this.#field)}`
      const response = await fetch(`${this.getAttribute('spoor') ?? ''}/api/v1/panel/story${query}`, {
        headers: { authorization: `Bearer ${this.getAttribute('ticket') ?? ''}` },
        credentials: 'omit',
        signal,
      })
      const answer = (await response.json()) as Story & { detail?: string }
      if (!response.ok) throw new Error(answer.detail ?? 'Spoor does not tell this trail.')
      this.#tell(answer)
    } catch (error) {
      if (signal.aborted) return
      const unreachable = error instanceof TypeError
      this.#show(
        made(
          'p',
          unreachable ? 'Spoor cannot be reached. The record itself is not touched by that.' : (error as Error).message,
          'failure',
        ),
      )
    }
  }

  #show(...inside: HTMLElement[]): void {
    const sheet = document.createElement('style')
    sheet.textContent = style
    const section = made('section')
    section.setAttribute('aria-label', 'The trail of this record')
    section.append(...inside)
    this.#root.replaceChildren(sheet, section)
  }

  #tell(story: Story): void {
    const head = made('header')
    head.append(made('h3', `Trail of ${story.typeName} ${story.label}`), this.#choice(story))
    const list = made('ol')
    list.tabIndex = 0
    for (const save of story.saves) list.append(this.#save(story, save))
    const notes = [
      ...(story.saves.length === 0 ? ['No change of it that you may see.'] : []),
      ...(story.more ? ['Older changes are in Spoor.'] : []),
      ...(story.partial ? ['You see a part of its changes.'] : []),
    ]
    this.#show(head, list, ...notes.map((words) => made('p', words, 'quiet')))
  }

  #choice(story: Story): HTMLElement {
    const select = document.createElement('select')
    select.setAttribute('aria-label', 'Only changes of one field')
    select.append(new Option('every field', ''))
    for (const { id, name } of story.fields) select.append(new Option(name, String(id)))
    select.value = this.#field
    select.addEventListener('change', () => {
      this.#field = select.value
      void this.#load()
    })
    return select
  }

  #save(story: Story, save: Save): HTMLElement {
    const item = made('li')
    const said = made('div')
    const time = made('time', this.#time(save.at, story.zone))
    time.setAttribute('datetime', save.at)
    said.append(
      made('b', save.by),
      ` ${save.claimed ? '(as it says of itself) ' : ''}${acts[save.action]} it, `,
      time,
      made('span', `, by ${save.channel}`, 'quiet'),
      ...(save.reason === null ? [] : [made('span', `: “${save.reason}”`)]),
    )
    const values = made('dl')
    for (const change of save.changes) {
      const name = story.fields.find(({ id }) => id === change.fieldId)?.name ?? ''
      const pair = made('dd')
      pair.append(...this.#values(save, change))
      values.append(made('dt', name, 'quiet'), pair)
    }
    item.append(said, values)
    return item
  }

  #values({ action }: Save, { before, after, hidden, beforeLabel, afterLabel }: Change): (Node | string)[] {
    if (hidden !== null) return [made('i', hidden === 'masked' ? '••••••' : 'erased', 'quiet')]
    const shown = (value: string | null, label: string | null) => {
      if (value === null) return made('i', 'nothing', 'quiet')
      const text = label ?? (value === '' ? '“”' : value)
      return made('bdi', text.length > shownAtMost ? `${text.slice(0, shownAtMost)} …` : text)
    }
    const was = made('s')
    was.append(shown(before, beforeLabel))
    if (action === 'create') return [shown(after, afterLabel)]
    if (action === 'delete') return [was]
    return [was, ' became ', shown(after, afterLabel)]
  }

  #time(at: string, zone: string | null): string {
    return new Intl.DateTimeFormat('en-GB', {
      dateStyle: 'medium',
      timeStyle: 'long',
      ...(zone === null ? {} : { timeZone: zone }),
    }).format(new Date(at))
  }
}

if (!customElements.get('spoor-trail')) customElements.define('spoor-trail', SpoorTrail)
