import { spawn } from 'node:child_process'
import { existsSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { setTimeout as sleep } from 'node:timers/promises'
import { freePort } from './cluster.mjs'
import { root } from './prepare.mjs'

const zone = 'Europe/London'
/** Looks at what is still to be sent without anything having been sent in between, before that counts as stuck. */
const mostTries = 600
const linkOf = /how=r\d+|\bsave=\d+/g

/** A watch of every run that tells somebody in Spoor, by mail and through a receiver, and what came of that. */
export class Told {
  #directory
  #watchId
  #takers = {}
  ports = {}
  words = ''

  constructor(directory) {
    this.#directory = directory
  }

  get pids() {
    return Object.fromEntries(Object.entries(this.#takers).map(([kind, child]) => [kind, child.pid]))
  }

  #fileOf(kind) {
    return join(this.#directory, `taken-${kind}.ndjson`)
  }

  async start() {
    for (const kind of ['mail', 'posts']) {
      this.ports[kind] = await freePort()
      await this.startTaking(kind)
    }
  }

  async startTaking(kind) {
    const program = join(root, 'scripts/lib/taking.mjs')
    this.#takers[kind] = spawn(process.execPath, [program, kind, String(this.ports[kind]), this.#fileOf(kind)], {
      stdio: 'ignore',
    })
  }

  async stop() {
    for (const child of Object.values(this.#takers)) child.kill('SIGKILL')
  }

  async watch({ db, vault, person }) {
    const { makeWatch } = await import('../../packages/server/dist/watches/store.js')
    const { addReceiver } = await import('../../packages/server/dist/watches/receivers.js')
    const url = `http://127.0.0.1:${this.ports.posts}/`
    const { receiver } = await addReceiver({ db, vault }, { name: 'posts', url, inside: true }, person.id)
    const watch = await makeWatch(
      db,
      person,
      {
        scope: '',
        fires: { fires: 'saves', more: 0, within: 'run' },
        speaks: { speaks: 'once' },
        quiet: null,
        zone,
        people: [person.id],
        mail: ['somebody@larkmere.example'],
        receivers: [receiver.id],
      },
      { mayMail: true },
    )
    this.#watchId = watch.id
  }

  /** Waits until everything is sent. What waits for another try is not waited for, but tried now. */
  async #settled(spoor) {
    let before = null
    for (let tries = 0; tries < mostTries; tries++) {
      const { rows } = await spoor.query(
        `select (select last_save_id from ledger.head) - (select until_save from spoor.watch where id = $1) as behind,
                (select count(*)::int from spoor.watch_message where state = 'waiting') as waiting`,
        [this.#watchId],
      )
      if (Number(rows[0].behind) === 0 && rows[0].waiting === 0) return
      const now = `${rows[0].behind} ${rows[0].waiting}`
      if (now !== before) tries = 0
      before = now
      await spoor.query(`update spoor.watch_message set due_at = now() where state = 'waiting' and due_at > now()`)
      await sleep(100)
    }
    throw new Error('what watches have to tell is not sent')
  }

  /** @returns what is not as it should be, a sentence each */
  async wrong(business, spoor) {
    await this.#settled(spoor)
    const wrong = []
    const { rows: runs } = await business.query('select run, count(*)::int as saves from public.deed group by 1')
    const { rows: firings } = await spoor.query(
      `select f.id, f.saves, f.save_ids, r.id as run_id, r.declared,
              (select count(*)::int from spoor.watch_message m where m.firing_id = f.id and m.way = 'spoor' and m.state = 'sent') as spoor,
              (select array_agg(m.letter::text) from spoor.watch_message m where m.firing_id = f.id and m.way = 'mail' and m.state = 'sent') as letters,
              (select array_agg(m.identity::text) from spoor.watch_message m where m.firing_id = f.id and m.way = 'receiver' and m.state = 'sent') as posts
         from spoor.watch_firing f left join ledger.run r on f.bucket = 'run:' || r.id where f.watch_id = $1 and f.fired_at is not null`,
      [this.#watchId],
    )
    const savesTold = new Map()
    for (const { declared, saves } of firings) savesTold.set(declared, (savesTold.get(declared) ?? 0) + saves)
    for (const { run, saves } of runs)
      if (savesTold.get(run) !== saves) wrong.push(`the run ${run} has ${saves} saves; told of ${savesTold.get(run)}`)
    if (savesTold.size !== runs.length) wrong.push(`${savesTold.size} runs are told of where ${runs.length} were`)

    const [mails, posts] = [this.#mails(), this.#posts()]
    for (const { id, run_id, save_ids, spoor: inSpoor, letters, posts: identities } of firings) {
      // Of one save the link leads to it, of more to the run.
      const links = [`how=r${run_id}`, ...save_ids.map((save) => `save=${save}`)]
      const [letter, post] = [mails, posts].map(
        (taken) => new Set(links.flatMap((link) => [...(taken.get(link) ?? [])])),
      )
      if (inSpoor !== 1) wrong.push(`firing ${id} is told of ${inSpoor} times in Spoor`)
      if (letters?.length !== 1 || letter.size !== 1 || !letter.has(letters[0]))
        wrong.push(`firing ${id} stands in letters ${[...letter].join(', ')}; ${letters} is kept`)
      if (identities?.length !== 1 || post.size !== 1 || !post.has(identities[0]))
        wrong.push(`firing ${id} was posted as ${[...post].join(', ')}; ${identities} is kept`)
    }
    const taken = (kind) => this.#taken(kind).length
    this.words = `${runs.length} runs told of in ${firings.length} messages; ${taken('mail')} letters and ${taken('posts')} posts were taken`
    return wrong
  }

  #taken(kind) {
    const file = this.#fileOf(kind)
    // A line that was being written when the end came was never answered.
    const lines = existsSync(file) ? readFileSync(file, 'utf8').split('\n').slice(0, -1) : []
    return lines.flatMap((line) => {
      try {
        return [JSON.parse(line)]
      } catch {
        return []
      }
    })
  }

  /** By what a link asks for, under which identities it came. */
  #mails() {
    const ids = new Map()
    for (const text of this.#taken('mail')) {
      const plain = text.replaceAll('=\r\n', '').replaceAll('=3D', '=')
      const identity = /^message-id: <(.*)@spoor>/im.exec(plain)?.[1]
      for (const [link] of plain.matchAll(linkOf)) ids.set(link, (ids.get(link) ?? new Set()).add(identity))
    }
    return ids
  }

  #posts() {
    const ids = new Map()
    for (const { id, body } of this.#taken('posts')) {
      for (const [link] of body.data.link.matchAll(linkOf))
        ids.set(link, (ids.get(link) ?? new Set()).add(id).add(body.id))
    }
    return ids
  }
}
