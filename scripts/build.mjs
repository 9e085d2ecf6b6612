#!/usr/bin/env node
import { spawn } from 'node:child_process'
import { root } from './lib/prepare.mjs'

/** Builds the packages, and beside them the web application, which is made from their sources. */
const going = [
  ['npx', 'tsc', '-b'],
  ['npm', 'run', 'build', '-w', '@spoor/web'],
].map(
  ([program, ...args]) =>
    new Promise((done) => spawn(program, args, { cwd: root, stdio: 'inherit' }).on('close', (status) => done(status))),
)
process.exitCode = (await Promise.all(going)).every((status) => status === 0) ? 0 : 1
