/** A failure whose message is all the person needs; it is printed without a stack. */
export class Stop extends Error {}

export function say(line) {
  console.log(line)
}

/** Runs a script's main function and turns its failure into words and an exit code. */
export function run(main) {
  main().catch((error) => {
    console.error(error instanceof Stop ? error.message : error)
    process.exit(1)
  })
}
