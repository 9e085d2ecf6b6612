import { createServer, type Server } from 'node:http'
import express, { type Request, type Response } from 'express'
import pg from 'pg'
import { withActor } from '@spoor/client'
import { deskTables, type DeskTable } from './forms.ts'
import { escaped, page } from './page.ts'

/** Values as PostgreSQL's own text: the desk shows and sends back what the database said. */
const textTypes = { getTypeParser: () => (text: string) => text }
const pageRows = 40

interface Row {
  [column: string]: string | null
}

/**
 * The desk: a plain business application in which a signed-in officer changes Larkmere's records. It knows Spoor
 * only through the client library, with which it says who is at work and why.
 */
export class Desk {
  readonly #pool: pg.Pool
  readonly #server: Server
  constructor(databaseUrl: string) {
    this.#pool = new pg.Pool({
      connectionString: databaseUrl,
      max: 8,
      application_name: 'the desk',
      types: textTypes as never,
    })
    this.#pool.on('error', () => undefined) // The database going away shows in the next request.
    const app = express()
    app.disable('x-powered-by')
    app.use(express.urlencoded({ extended: false, limit: '2mb' }))
    app.get('/sign-in', (_request, response) => this.#answer(response, this.#signInPage()))
    app.post('/sign-in', (request, response) => {
      response
        .cookie('officer', String((request.body as Row)['officer'] ?? ''), { httpOnly: true, sameSite: 'strict' })
        .redirect(`/${deskTables[0]!.path}`)
    })
    app.post('/sign-out', (_request, response) => response.clearCookie('officer').redirect('/sign-in'))
    app.use((request, response, next) => (officerOf(request) ? next() : response.redirect('/sign-in')))
    app.get('/', (_request, response) => response.redirect(`/${deskTables[0]!.path}`))
    for (const table of deskTables) {
      app.get(`/${table.path}`, (request, response) => this.#answer(response, this.#grid(table, request)))
      app.get(`/${table.path}/:key`, (request, response) => this.#answer(response, this.#form(table, request)))
      app.post(`/${table.path}/:key`, (request, response) => this.#answer(response, this.#save(table, request)))
    }
    this.#server = createServer(app)
  }

  async listen(port: number): Promise<string> {
    await new Promise<void>((done, fail) => this.#server.once('error', fail).listen(port, '127.0.0.1', done))
    return `http://127.0.0.1:${port}`
  }

  async close(): Promise<void> {
    await new Promise<void>((done) => {
      this.#server.close(() => done())
      this.#server.closeAllConnections()
    })
    await this.#pool.end()
  }

  #answer(response: Response, html: Promise<string>): void {
    html.then(
      (text) => response.type('html').send(text),
      (error: Error) =>
        response
          .status(500)
          .type('html')
          .send(
            page({
              title: 'Not now',
              officer: null,
              tables: [],
              body: `<p class="said bad">${escaped(error.message)}</p>`,
            }),
          ),
    )
  }

  async #signInPage(): Promise<string> {
    const { rows } = await this.#pool.query<Row>(
      'select full_name from reference.officer where left_on is null order by full_name',
    )
    const options = rows.map((row) => `<option>${escaped(row['full_name'])}</option>`).join('')
    const body = `<form class="edit" method="post" action="/sign-in"><label><span>Officer</span><select name="officer">${options}</select></label><button>Sign in</button></form>`
    return page({ title: 'Sign in', officer: null, tables: [], body })
  }

  async #grid(table: DeskTable, request: Request): Promise<string> {
    const find = String(request.query['find'] ?? '')
    const at = Math.max(0, Number(request.query['at'] ?? 0) || 0)
    const columns = table.columns.map((column, n) => `(${column.sql})::text as c${n}`).join(', ')
    const anywhere = table.columns.map((column) => `(${column.sql})::text ilike $1`).join(' or ')
    const { rows } = await this.#pool.query<Row>(
      `select t.${table.key}::text as key, ${columns} from ${table.list} where ${anywhere} order by t.${table.key} limit ${pageRows + 1} offset ${at}`,
      [`%${find.replace(/[\\%_]/g, '\\$&')}%`],
    )
    const head = table.columns.map((column) => `<th>${escaped(column.name)}</th>`).join('')
    const body = rows.slice(0, pageRows).map((row) => `<tr>${table.columns.map((_, n) => (n === 0 ? `<td><a href="/${table.path}/${encodeURIComponent(row['key']!)}">${escaped(row['c0'])}</a></td>` : `<td>${escaped(row[`c${n}`])}</td>`)).join('')}</tr>`) // prettier-ignore
    const more =
      rows.length > pageRows
        ? `<a href="?find=${encodeURIComponent(find)}&at=${at + pageRows}">Next ${pageRows}</a>`
        : ''
    return this.#page(
      request,
      table.title,
      `<form><label><span>Find</span><input name="find" value="${escaped(find)}"></label></form><table><tr>${head}</tr>${body.join('')}</table><nav class="pages">${more}</nav>`,
    )
  }

  async #form(table: DeskTable, request: Request, said = ''): Promise<string> {
    const key = String(request.params['key'])
    const { rows } = await this.#pool.query<Row>(`select * from ${table.table} where ${table.key}::text = $1`, [key])
    const row = rows[0]
    if (!row)
      return this.#page(
        request,
        table.title,
        `<p class="said bad">${escaped(table.title)} has no record ${escaped(key)}.</p>`,
      )
    const inputs = table.fields.map(({ column, label, kind }) => {
      const value = escaped(row[column])
      // HTML drops one line break after the opening tag, so one is given to lose.
      const input =
        kind === 'long'
          ? `<textarea name="${column}" rows="6">\n${value}</textarea>`
          : `<input name="${column}" value="${value}">`
      return `<label><span>${escaped(label)}</span>${input}</label>`
    })
    const reason = `<label><span>Reason</span><input name="_reason" autocomplete="off"></label>`
    return this.#page(
      request,
      table.title,
      `${said}<form class="edit" method="post"><h2>${escaped(table.title)} ${escaped(key)}</h2>${inputs.join('')}${reason}<button>Save</button></form>`,
    )
  }

  /** Writes only what the officer changed, in one transaction that says who and why. */
  async #save(table: DeskTable, request: Request): Promise<string> {
    const key = String(request.params['key'])
    const sent = request.body as Record<string, string>
    const client = await this.#pool.connect()
    try {
      const { rows } = await client.query<Row>(`select * from ${table.table} where ${table.key}::text = $1`, [key])
      const before = rows[0]
      const changed = table.fields.filter(
        ({ column }) => before && column in sent && unified(sent[column]!) !== unified(before[column] ?? ''),
      )
      if (changed.length > 0) {
        const reason = sent['_reason']?.trim()
        const set = changed.map(({ column }, at) => `${column} = $${at + 2}`).join(', ')
        await withActor(
          client,
          { actor: officerOf(request)!, kind: 'person', channel: 'screen', ...(reason ? { reason } : {}) },
          (c) =>
            c.query(`update ${table.table} set ${set} where ${table.key}::text = $1`, [
              key,
              ...changed.map(({ column }) => (sent[column] === '' ? null : unified(sent[column]!))),
            ]),
        )
      }
      const said = changed.length > 0 ? `Saved: ${changed.map((one) => one.label).join(', ')}.` : 'Nothing was changed.'
      return await this.#form(table, request, `<p class="said">${escaped(said)}</p>`)
    } catch (error) {
      return await this.#form(table, request, `<p class="said bad">Not saved: ${escaped((error as Error).message)}</p>`)
    } finally {
      client.release()
    }
  }

  async #page(request: Request, title: string, body: string): Promise<string> {
    return page({ title, officer: officerOf(request), tables: deskTables, body })
  }
}

/** A form sends every line break as CR LF; the database holds LF. */
function unified(text: string): string {
  return text.replace(/\r\n/g, '\n')
}

function officerOf(request: Request): string | null {
  const cookie = (request.headers.cookie ?? '').split(/; */).find((one) => one.startsWith('officer='))
  const name = cookie ? decodeURIComponent(cookie.slice('officer='.length)) : ''
  return name === '' ? null : name
}
