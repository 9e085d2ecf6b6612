import express, { Router, type Express } from 'express'
import type { Pool } from 'pg'
import type { Logger } from 'pino'
import { pinoHttp } from 'pino-http'
import { Problem } from './errors.ts'
import { alarmsRouter } from './alarms/routes.ts'
import { baselinesRouter } from './baselines/routes.ts'
import { casesRouter } from './cases/routes.ts'
import { readingsRouter } from './changes/readings-routes.ts'
import { changesRouter } from './changes/routes.ts'
import { figuresRouter } from './figures/routes.ts'
import { erasureRouter } from './erasure/routes.ts'
import { custodyRouter } from './custody/routes.ts'
import { correctionsRouter } from './corrections/routes.ts'
import type { Database } from './database/knex.ts'
import { problemHandler } from './http/errors.ts'
import { openApi } from './http/openapi.ts'
import { guardToken, identify, sessions, type Identifying } from './http/session.ts'
import { securityHeaders, webRouter } from './http/web.ts'
import { metricsText } from './pulse/metrics.ts'
import type { PulseSource } from './pulse/pulse.ts'
import { pulseRouter } from './pulse/routes.ts'
import { FirstPerson } from './people/first-person.ts'
import { People } from './people/people.ts'
import { directoryRouter } from './people/directory-routes.ts'
import { peopleRouter } from './people/people-routes.ts'
import { sessionRouter } from './people/routes.ts'
import { mayToday } from './ledger/reach.ts'
import { SignInRuleBook } from './people/sign-in-rules.ts'
import { noticingRouter } from './noticing/routes.ts'
import { applicationsRouter, panelRouter } from './panel/routes.ts'
import type { TimeAuthority } from './custody/authority.ts'
import { packsRouter } from './packs/routes.ts'
import { reconcilingRouter } from './reconcile/routes.ts'
import { guardsRouter } from './guards/routes.ts'
import { watchesRouter } from './watches/routes.ts'
import { recordsRouter } from './records/routes.ts'
import { reviewRouter } from './review/routes.ts'
import { todayRouter } from './today/routes.ts'
import type { Vault } from './secret.ts'
import type { Sources } from './sources/registry.ts'
import { trackingRouter } from './tracking/routes.ts'
import { workRouter } from './work/routes.ts'

export interface AppDeps {
  db: Database
  sessionPool: Pool
  sessionSecret: string
  sources: Sources
  pulse: PulseSource
  log: Logger
  https: boolean
  /** Addresses, networks or their names, of proxies that are believed. */
  trustedProxies: string[]
  webDirectory: string
  /** Where the files of packs are kept. */
  packsDirectory: string
  /** Who stamps packs with the time; null where nobody is set. */
  timeAuthority: TimeAuthority | null
  vault: Vault
  /** Whether mail can be sent. */
  mayMail: boolean
  /** Opens Spoor's database as the role that erases. */
  connectEraser(): Database
  /** Makes the first administrator. */
  first?: FirstPerson
  /** Called when a source was added while the server runs. */
  onSourceAdded(): Promise<void>
}

const maxBody = '4mb'

export function createApp(deps: AppDeps): Express {
  const { db, sources, pulse, log, https } = deps
  const people = new People(db)
  const rules = new SignInRuleBook(db)
  const findToday = async (id: number) => {
    const person = await people.find(id)
    return person && mayToday(person, new Date().toISOString().slice(0, 10)) ? person : null
  }
  const identifying: Identifying = {
    find: findToday,
    limits: async () => {
      const { idleMinutes, mostHours } = await rules.read()
      return { idleMs: idleMinutes * 60_000, mostMs: mostHours * 3_600_000 }
    },
    saw: (id) => people.saw(id),
  }
  const app = express()
  // Behind https there is a proxy that ends it and says who asked by which scheme.
  if (https) app.set('trust proxy', deps.trustedProxies)
  app.disable('x-powered-by')
  app.set('query parser', 'simple')
  // Only the method, the path and the outcome: queries and bodies hold what people look for and values.
  app.use(
    pinoHttp({
      logger: log,
      autoLogging: { ignore: (request) => request.url === '/healthz' || request.url === '/readyz' },
      customLogLevel: (_request, response) => (response.statusCode >= 500 ? 'error' : 'debug'),
      serializers: {
        req: (request: { method: string; url: string }) => ({
          method: request.method,
          // What is in the address of a link is a secret.
          path: request.url.split('?')[0]?.replace(/(\/handed\/)[^/]+/, '$1…'),
        }),
        res: (response: { statusCode: number }) => ({ status: response.statusCode }),
      },
    }),
  )
  app.use(securityHeaders(https))

  app.get('/healthz', (_request, response) => void response.type('text/plain').send('alive\n'))
  app.get('/readyz', (_request, response, next) => {
    db.raw('select 1').then(
      () => response.type('text/plain').send('ready\n'),
      () => next(new Problem('unexpected', 'Spoor’s database does not answer.')),
    )
  })
  app.get('/metrics', (_request, response, next) => {
    metricsText(db).then(({ type, text }) => response.type(type).send(text), next)
  })

  const api = Router()
  api.use((_request, response, next) => {
    response.set('cache-control', 'no-store')
    next()
  })
  api.get('/openapi.json', (_request, response) => void response.json(openApi()))
  api.use(panelRouter({ db, find: findToday }))
  api.use(
    sessions(deps.sessionPool, deps.sessionSecret, https),
    identify(identifying),
    express.json({ limit: maxBody }),
    guardToken,
  )
  api.use(sessionRouter({ db, first: deps.first ?? new FirstPerson(db), people, rules, log }))
  api.use(changesRouter({ db }))
  api.use(readingsRouter({ db }))
  api.use(figuresRouter({ db }))
  api.use(recordsRouter({ db, sources }))
  api.use(reviewRouter({ db }))
  api.use(noticingRouter({ db }))
  api.use(todayRouter({ db }))
  api.use(trackingRouter({ db, sources, onSourceAdded: deps.onSourceAdded }))
  api.use(guardsRouter({ db, sources }))
  api.use(directoryRouter({ db }))
  api.use(peopleRouter({ db, people, rules }))
  api.use(correctionsRouter({ db, sources }))
  api.use(custodyRouter({ db }))
  api.use(alarmsRouter({ db }))
  api.use(reconcilingRouter({ db }))
  api.use(baselinesRouter({ db }))
  api.use(casesRouter({ db }))
  api.use(packsRouter({ db, directory: deps.packsDirectory, authority: deps.timeAuthority, mayMail: deps.mayMail }))
  api.use(applicationsRouter({ db }))
  api.use(watchesRouter({ db, vault: deps.vault, mayMail: deps.mayMail }))
  api.use(workRouter({ db }))
  api.use(erasureRouter({ db, connectEraser: deps.connectEraser }))
  api.use(pulseRouter(pulse, identifying))
  api.use((request, _response, next) =>
    next(new Problem('not-found', `The API has nothing at ${request.method} ${request.path}.`)),
  )
  app.use('/api/v1', api)

  app.use(webRouter(deps.webDirectory))
  app.use(problemHandler(log))
  return app
}
