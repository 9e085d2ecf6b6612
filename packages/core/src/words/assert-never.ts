/** Ends a switch over a tagged union, so that a new variant fails to compile until it is handled. */
export function assertNever(value: never): never {
  throw new Error(`unhandled variant: ${JSON.stringify(value)}`)
}
