import { createServer, type Server } from 'node:http'
import { fileURLToPath } from 'node:url'
import { trailTicket } from '@spoor/client'
import express, { type Request, type Response } from 'express'
import pg from 'pg'
import { deskTable, deskTables, type DeskTable } from './forms.ts'
import { escaped, page } from './page.ts'
import { addLine, bulkEdit, deleteRecord, loadFile, saveRecord, type Sent } from './writes.ts'

/** Values as PostgreSQL's own text: the desk shows and sends back what the database said. */
const textTypes = { getTypeParser: () => (text: string) => text }
const pageRows = 40
const trailScript = '/spoor-trail.js'

/** Where Spoor is, and the key it gave the desk. */
export interface DeskTrail {
  spoor: string
  applicationKey: string
}

type Row = Record<string, string | null>

/**
 * The desk: a plain business application in which a signed-in officer changes Larkmere's records. It knows Spoor
 * only through the client library, with which it says who is at work and why.
 */
export class Desk {
  readonly #pool: pg.Pool
  readonly #server: Server
  #trail: DeskTrail | null = null
  constructor(databaseUrl: string) {
    this.#pool = new pg.Pool({
      connectionString: databaseUrl,
      max: 8,
      application_name: 'the desk',
      types: textTypes as never,
    })
    this.#pool.on('error', () => undefined) // The database going away shows in the next request.
    this.#server = createServer(this.#routes())
  }

  async listen(port: number): Promise<string> {
    await new Promise<void>((done, fail) => this.#server.once('error', fail).listen(port, '127.0.0.1', done))
    return `http://127.0.0.1:${port}`
  }

  /** From now on each record shows its trail to whoever may see it in Spoor. */
  showTrails(trail: DeskTrail): void {
    this.#trail = trail
  }

  async close(): Promise<void> {
    await new Promise<void>((done) => {
      this.#server.close(() => done())
      this.#server.closeAllConnections()
    })
    await this.#pool.end()
  }

  #routes(): express.Express {
    const app = express()
    app.disable('x-powered-by')
    app.use(express.urlencoded({ extended: false, limit: '4mb' }))
    const answer = (response: Response, html: Promise<string>) =>
      void html.then(
        (text) => response.type('html').send(text),
        (error: Error) =>
          response
            .status(500)
            .type('html')
            .send(page({ title: 'Not now', officer: null, tables: [], body: said(error.message, true) })),
      )
    app.get('/favicon.ico', (_request, response) => void response.status(204).end())
    const script = fileURLToPath(import.meta.resolve('@spoor/client/spoor-trail.js'))
    app.get(trailScript, (_request, response) => response.type('text/javascript').sendFile(script))
    app.get('/sign-in', (_request, response) => answer(response, this.#signIn()))
    app.post('/sign-in', (request, response) => {
      response
        .cookie('officer', sentBy(request)['officer'] ?? '', { httpOnly: true, sameSite: 'strict' })
        .redirect(`/${deskTables[0]!.path}`)
    })
    app.post('/sign-out', (_request, response) => response.clearCookie('officer').redirect('/sign-in'))
    app.use((request, response, next) => (officerOf(request) ? next() : response.redirect('/sign-in')))
    app.get('/', (_request, response) => response.redirect(`/${deskTables[0]!.path}`))
    for (const table of deskTables) {
      const form = (request: Request, work: () => Promise<string>) =>
        this.#attempt(work, (note) => this.#form(table, request, note))
      const grid = (request: Request, work: () => Promise<string>) =>
        this.#attempt(work, (note) => this.#grid(table, request, note))
      app.get(`/${table.path}`, (request, response) => answer(response, this.#grid(table, request)))
      app.post(`/${table.path}/bulk`, (request, response) =>
        answer(
          response,
          grid(request, () => this.#bulk(table, request)),
        ),
      )
      app.post(`/${table.path}/file`, (request, response) =>
        answer(
          response,
          grid(request, () => this.#file(table, request)),
        ),
      )
      app.get(`/${table.path}/:key`, (request, response) => answer(response, this.#form(table, request)))
      app.post(`/${table.path}/:key`, (request, response) =>
        answer(
          response,
          form(request, () => this.#save(table, request)),
        ),
      )
      app.post(`/${table.path}/:key/line`, (request, response) =>
        answer(
          response,
          form(request, () => this.#line(table, request)),
        ),
      )
      app.post(`/${table.path}/:key/delete`, (request, response) =>
        answer(
          response,
          grid(request, () => this.#delete(table, request)),
        ),
      )
    }
    return app
  }

  /** Does the work and shows the page with what came of it, good or bad. */
  async #attempt(work: () => Promise<string>, show: (note: string) => Promise<string>): Promise<string> {
    try {
      return await show(said(await work(), false))
    } catch (error) {
      return await show(said(`Not saved: ${(error as Error).message}`, true))
    }
  }

  async #save(table: DeskTable, request: Request): Promise<string> {
    const written = await saveRecord(this.#pool, table, keyIn(request), sentBy(request), officerOf(request)!)
    return written.length > 0 ? `Saved: ${written.join(', ')}.` : 'Nothing was changed.'
  }

  async #line(table: DeskTable, request: Request): Promise<string> {
    const { path, parentColumn } = table.lines!
    await addLine(this.#pool, deskTable(path), parentColumn, keyIn(request), sentBy(request), officerOf(request)!)
    return 'Saved: a new line.'
  }

  async #delete(table: DeskTable, request: Request): Promise<string> {
    await deleteRecord(this.#pool, table, keyIn(request), sentBy(request), officerOf(request)!)
    return `Deleted: ${table.one} ${keyIn(request)}.`
  }

  async #bulk(table: DeskTable, request: Request): Promise<string> {
    const keys = [(request.body as { _keys?: string | string[] })._keys ?? []].flat()
    return `Saved: ${await bulkEdit(this.#pool, table, keys, sentBy(request), officerOf(request)!)} records.`
  }

  async #file(table: DeskTable, request: Request): Promise<string> {
    const sent = sentBy(request)
    return `Saved: ${await loadFile(this.#pool, table, sent['_csv'] ?? '', sent, officerOf(request)!)} records from the file.`
  }

  async #signIn(): Promise<string> {
    const { rows } = await this.#pool.query<Row>(
      'select full_name from reference.officer where left_on is null order by full_name',
    )
    const options = rows.map((row) => `<option>${escaped(row['full_name'])}</option>`).join('')
    const body = `<form class="edit" method="post" action="/sign-in"><label><span>Officer</span><select name="officer">${options}</select></label><button>Sign in</button></form>`
    return page({ title: 'Sign in', officer: null, tables: [], body })
  }

  async #grid(table: DeskTable, request: Request, note = ''): Promise<string> {
    const find = String(request.query['find'] ?? '')
    const at = Math.max(0, Number(request.query['at'] ?? 0) || 0)
    const rows = await this.#rows(table, `%${find.replace(/[\\%_]/g, '\\$&')}%`, at)
    const more =
      rows.length > pageRows
        ? `<a href="/${table.path}?find=${encodeURIComponent(find)}&at=${at + pageRows}">Next ${pageRows}</a>`
        : ''
    const fields = table.fields.map((one) => `<option value="${one.column}">${escaped(one.label)}</option>`).join('')
    const body = `${note}<form action="/${table.path}"><label><span>Find</span><input name="find" value="${escaped(find)}"></label></form>
<form method="post" action="/${table.path}/bulk">${gridTable(table, rows.slice(0, pageRows), true)}<nav class="pages">${more}</nav>
<fieldset><legend>Bulk edit</legend><label><span>Field</span><select name="_field">${fields}</select></label><label><span>New value</span><input name="_value"></label>
<label><span>Reason of the bulk edit</span><input name="_reason"></label><button>Set for all ticked</button></fieldset></form>
<form method="post" action="/${table.path}/file"><fieldset><legend>Load a file</legend><label><span>Name of the file</span><input name="_file"></label>
<label><span>Lines (CSV with a heading: ${table.key} and fields)</span><textarea name="_csv" rows="5"></textarea></label>
<label><span>Reason of the file</span><input name="_reason"></label><button>Load</button></fieldset></form>`
    return this.#page(request, table.title, body)
  }

  async #rows(table: DeskTable, like: string, at: number): Promise<Row[]> {
    const columns = table.columns.map((column, n) => `(${column.sql})::text as c${n}`).join(', ')
    const anywhere = table.columns.map((column) => `(${column.sql})::text ilike $1`).join(' or ')
    const statement = `select t.${table.key}::text as key, ${columns} from ${table.list} where ${anywhere} order by t.${table.key} limit ${pageRows + 1} offset ${at}`
    return (await this.#pool.query<Row>(statement, [like])).rows
  }

  async #form(table: DeskTable, request: Request, note = ''): Promise<string> {
    const key = keyIn(request)
    const { rows } = await this.#pool.query<Row>(`select * from ${table.table} where ${table.key}::text = $1`, [key])
    const row = rows[0]
    if (!row) return this.#page(request, table.title, note || said(`${table.title} has no record ${key}.`, true))
    const path = `/${table.path}/${encodeURIComponent(key)}`
    const body = `${note}<form class="edit" method="post" action="${path}"><h2>${escaped(table.one)} ${escaped(key)}</h2>${inputs(table, row)}
<label><span>Reason</span><input name="_reason" autocomplete="off"></label><button>Save</button></form>
${await this.#lines(table, key, path)}
${await this.#trailOf(table, key, officerOf(request)!)}
<form class="edit" method="post" action="${path}/delete"><label><span>Reason for deleting</span><input name="_reason"></label><button class="bad">Delete ${escaped(table.one.toLowerCase())}</button></form>`
    return this.#page(request, table.title, body, this.#trail ? [trailScript] : [])
  }

  /** Spoor's panel, or why it shows nothing; the form does not depend on it. */
  async #trailOf({ table }: DeskTable, key: string, officer: string): Promise<string> {
    if (!this.#trail) return ''
    const { spoor } = this.#trail
    try {
      const ticket = await trailTicket({ ...this.#trail, user: officer, table, key: [key] })
      return `<spoor-trail style="margin:16px 0" spoor="${escaped(spoor)}" ticket="${escaped(ticket)}"></spoor-trail>`
    } catch (error) {
      return `<h3>Trail</h3><p>${escaped((error as Error).message)}</p>`
    }
  }

  async #lines(table: DeskTable, key: string, path: string): Promise<string> {
    if (!table.lines) return ''
    const lines = deskTable(table.lines.path)
    const columns = lines.columns.map((column, n) => `(${column.sql})::text as c${n}`).join(', ')
    const { rows } = await this.#pool.query<Row>(
      `select t.${lines.key}::text as key, ${columns} from ${lines.list} where t.${table.lines.parentColumn}::text = $1 order by t.${lines.key}`,
      [key],
    )
    return `<h3>${escaped(lines.title)}</h3>${gridTable(lines, rows, false)}
<form class="edit" method="post" action="${path}/line"><h3>New ${escaped(lines.one.toLowerCase())}</h3>${inputs(lines, {}, 'New ')}<label><span>Reason for the line</span><input name="_reason"></label><button>Add</button></form>`
  }

  #page(request: Request, title: string, body: string, scripts: readonly string[] = []): string {
    const tables = deskTables.filter((table) => !table.asLines)
    return page({ title, officer: officerOf(request), tables, body, scripts })
  }
}

function gridTable(table: DeskTable, rows: readonly Row[], tick: boolean): string {
  const head = table.columns.map((column) => `<th>${escaped(column.name)}</th>`).join('')
  const lines = rows.map((row) => {
    const key = row['key']!
    const box = tick
      ? `<td><input type="checkbox" name="_keys" value="${escaped(key)}" aria-label="Tick ${escaped(key)}"></td>`
      : ''
    const cells = table.columns.map((_, n) =>
      n === 0
        ? `<td><a href="/${table.path}/${encodeURIComponent(key)}">${escaped(row['c0'])}</a></td>`
        : `<td>${escaped(row[`c${n}`])}</td>`,
    )
    return `<tr>${box}${cells.join('')}</tr>`
  })
  return `<table><tr>${tick ? '<th></th>' : ''}${head}</tr>${lines.join('')}</table>`
}

function inputs(table: DeskTable, row: Row, prefix = ''): string {
  return table.fields
    .map(({ column, label, kind }) => {
      const value = escaped(row[column])
      const shown = escaped(prefix ? `${prefix}${label.toLowerCase()}` : label)
      const named = `name="${column}" aria-label="${shown}"`
      // HTML drops one line break after the opening tag, so one is given to lose.
      const input =
        kind === 'long' ? `<textarea ${named} rows="6">\n${value}</textarea>` : `<input ${named} value="${value}">`
      return `<label><span>${shown}</span>${input}</label>`
    })
    .join('')
}

function said(words: string, bad: boolean): string {
  return `<p class="said${bad ? ' bad' : ''}">${escaped(words)}</p>`
}

function keyIn(request: Request): string {
  return String(request.params['key'])
}

function sentBy(request: Request): Sent {
  return (request.body ?? {}) as Sent
}

function officerOf(request: Request): string | null {
  const cookie = (request.headers.cookie ?? '').split(/; */).find((one) => one.startsWith('officer='))
  const name = cookie ? decodeURIComponent(cookie.slice('officer='.length)) : ''
  return name === '' ? null : name
}
