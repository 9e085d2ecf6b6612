import { spawnSync } from 'node:child_process'
import { createHash } from 'node:crypto'
import { existsSync, mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { fileURLToPath } from 'node:url'
import { say, Stop } from './say.mjs'

export const root = dirname(dirname(dirname(fileURLToPath(import.meta.url))))

const leastNode = [20, 19]

function demandNode() {
  const [major, minor] = process.versions.node.split('.').map(Number)
  if (major < leastNode[0] || (major === leastNode[0] && minor < leastNode[1]))
    throw new Stop(`Spoor needs Node.js ${leastNode.join('.')} or newer; this is ${process.versions.node}.`)
}

/** The directory of PostgreSQL's server programs, 15 or newer, or null. */
export function postgresBinaries() {
  const base = '/usr/lib/postgresql'
  if (!existsSync(base)) return null
  const versions = readdirSync(base)
    .map(Number)
    .filter((version) => version >= 15 && existsSync(join(base, String(version), 'bin', 'initdb')))
    .sort((a, b) => b - a)
  return versions.length > 0 ? join(base, String(versions[0]), 'bin') : null
}

export const chromiumPath = '/usr/bin/chromium'

function command(program, args, options = {}) {
  return spawnSync(program, args, { cwd: root, stdio: 'inherit', ...options })
}

/** Installs Debian packages that are missing: as root, or through sudo when it asks for no password. */
function ensurePackages(missing) {
  if (missing.length === 0) return
  const names = missing.join(' ')
  const asRoot = process.getuid?.() === 0
  const line = `sudo apt-get update && sudo apt-get install -y --no-install-recommends ${names}`
  if (!existsSync('/usr/bin/apt-get'))
    throw new Stop(`These are missing: ${names}. Install them with your system’s package manager, then start again.`)
  const viaSudo = !asRoot && spawnSync('sudo', ['-n', 'true'], { stdio: 'ignore' }).status === 0
  if (!asRoot && !viaSudo)
    throw new Stop(`These Debian packages are missing: ${names}. Run this line, then start again:\n\n  ${line}\n`)
  say(`Installing from Debian: ${names}`)
  const prefix = asRoot ? [] : ['sudo', '-n']
  // The cluster that Debian would start by itself is not wanted: Spoor’s is private to its data directory.
  const environment = { ...process.env, DEBIAN_FRONTEND: 'noninteractive', SYSTEMD_OFFLINE: '1' }
  const apt = (...args) => {
    const [program, ...rest] = [...prefix, 'apt-get', ...args]
    return command(program, rest, { env: environment, stdio: ['ignore', 'ignore', 'inherit'] })
  }
  apt('update', '-q')
  if (apt('install', '-y', '-q', '--no-install-recommends', ...missing).status !== 0)
    throw new Stop(`apt-get could not install ${names}. Run this line, then start again:\n\n  ${line}\n`)
}

function digestOf(files) {
  const hash = createHash('sha256')
  for (const file of files) hash.update(file).update(readFileSync(join(root, file)))
  return hash.digest('hex')
}

const stamps = join(root, 'node_modules', '.spoor')

function stamped(name, digest) {
  const file = join(stamps, name)
  return existsSync(file) && readFileSync(file, 'utf8') === digest
}

function stamp(name, digest) {
  mkdirSync(stamps, { recursive: true })
  writeFileSync(join(stamps, name), digest)
}

function ensureModules() {
  const digest = digestOf(['package-lock.json'])
  if (stamped('modules', digest)) return
  say('Installing npm packages')
  if (command('npm', ['ci', '--no-audit', '--no-fund', '--loglevel=error']).status !== 0)
    throw new Stop('npm ci failed; its own words stand above. Start again when that is mended.')
  stamp('modules', digest)
}

function sourceFiles() {
  const files = ['package.json', 'tsconfig.base.json', 'tsconfig.json', 'package-lock.json']
  const walk = (directory) => {
    for (const entry of readdirSync(join(root, directory), { withFileTypes: true })) {
      if (entry.name === 'dist' || entry.name === 'node_modules' || entry.name === 'test') continue
      const path = join(directory, entry.name)
      if (entry.isDirectory()) walk(path)
      else if (!/\.test\.ts$/.test(entry.name)) files.push(path)
    }
  }
  walk('packages')
  return files.filter((file) => statSync(join(root, file)).isFile()).sort()
}

export function ensureBuilt() {
  const digest = digestOf(sourceFiles())
  const built =
    existsSync(join(root, 'packages/server/dist/main.js')) && existsSync(join(root, 'packages/web/dist/index.html'))
  if (built && stamped('build', digest)) return
  say('Building')
  const result = spawnSync('npm', ['run', '--silent', 'build'], { cwd: root, encoding: 'utf8' })
  if (result.status !== 0) throw new Stop(`The build failed:\n${result.stdout}${result.stderr}`)
  stamp('build', digest)
}

/** Everything a fresh machine needs; quick when it is all there. */
export function prepare({ browser = false } = {}) {
  demandNode()
  const missing = []
  if (!process.env.SPOOR_DATABASE_URL && !postgresBinaries()) missing.push('postgresql')
  // The demo's clock office stamps by it.
  if (!existsSync('/usr/bin/openssl')) missing.push('openssl')
  // With the browser come the programs that tests read PDF files with.
  if (browser && !existsSync(chromiumPath)) missing.push('chromium')
  if (browser && !existsSync('/usr/bin/qpdf')) missing.push('qpdf')
  if (browser && !existsSync('/usr/bin/pdftotext')) missing.push('poppler-utils')
  ensurePackages(missing)
  ensureModules()
}
