import { isDeepStrictEqual } from 'node:util'
import * as v from 'valibot'
import type { RouteShape } from '@spoor/contract'

/** Tests hold every answer against what the contract promises; elsewhere that would cost time and find nothing new. */
const isOn = process.env['SPOOR_CHECK_ANSWERS'] === '1'

/** @throws Error when an answer is not what the contract says, or says more: nobody asked whether that may be seen */
export function checkAnswer({ method, path, response }: RouteShape, answer: unknown): void {
  if (!isOn || !response) return
  const sent: unknown = JSON.parse(JSON.stringify(answer ?? null))
  const parsed = v.safeParse(response, sent)
  const wrong = parsed.success
    ? isDeepStrictEqual(parsed.output, sent)
      ? null
      : `it says more than the contract does: ${JSON.stringify(sent).slice(0, 500)}`
    : `at ${v.getDotPath(parsed.issues[0]) ?? 'its root'}: ${parsed.issues[0].message}`
  if (wrong !== null) throw new Error(`The answer to ${method} ${path} is not what the contract says: ${wrong}`)
}
