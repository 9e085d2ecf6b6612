import { randomBytes } from 'node:crypto'
import { existsSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import expressStaticGzip from 'express-static-gzip'
import express, { Router, type RequestHandler } from 'express'
import helmet from 'helmet'

/** Styles that the interface's components write at run time carry this page's nonce; nothing else inline is allowed. */
export function securityHeaders(https: boolean): RequestHandler[] {
  const nonce: RequestHandler = (_request, response, next) => {
    response.locals['nonce'] = randomBytes(16).toString('base64')
    next()
  }
  const withNonce = (_request: unknown, response: unknown) =>
    `'nonce-${String((response as { locals: Record<string, unknown> }).locals['nonce'])}'`
  return [
    nonce,
    helmet({
      contentSecurityPolicy: {
        useDefaults: false,
        directives: {
          defaultSrc: ["'none'"],
          scriptSrc: ["'self'"],
          styleSrc: ["'self'", withNonce],
          styleSrcAttr: ["'unsafe-inline'"],
          fontSrc: ["'self'"],
          imgSrc: ["'self'", 'data:'],
          connectSrc: ["'self'"],
          workerSrc: ["'self'"],
          formAction: ["'self'"],
          baseUri: ["'none'"],
          frameAncestors: ["'none'"],
          ...(https ? { upgradeInsecureRequests: [] } : {}),
        },
      },
      strictTransportSecurity: https,
    }),
  ]
}

/** The built interface; every path that is not a file is the application's page. */
export function webRouter(directory: string): Router {
  const router = Router()
  const page = join(directory, 'index.html')
  if (!existsSync(page)) {
    router.get('/{*path}', (_request, response) => {
      response.status(503).type('text/plain').send('The interface has not been built. Run: npm run build\n')
    })
    return router
  }
  const template = readFileSync(page, 'utf8')
  router.use(
    '/assets',
    // Compressed when it was built, and only what holds nobody's secrets: an answer that is compressed tells by its length.
    expressStaticGzip(join(directory, 'assets'), {
      enableBrotli: true,
      orderPreference: ['br', 'gzip'],
      index: false,
      serveStatic: { immutable: true, maxAge: '1y', fallthrough: false },
    }),
  )
  router.use(express.static(directory, { index: false }))
  router.get('/{*path}', (_request, response) => {
    response
      .set('cache-control', 'no-store')
      .type('html')
      .send(template.replaceAll('__NONCE__', String(response.locals['nonce'])))
  })
  return router
}
