import { problems, type ProblemBody, type ProblemCode } from '@spoor/contract'

type Extra = Pick<ProblemBody, 'remedy' | 'pieces' | 'progress'>

/** A failure that the person should read: what happened, what was kept and what to do. */
export class Problem extends Error {
  readonly code: ProblemCode
  readonly extra: Extra
  constructor(code: ProblemCode, detail: string, extra: Extra = {}) {
    super(detail)
    this.code = code
    this.extra = extra
  }

  get status(): number {
    return problems[this.code].status
  }

  body(): ProblemBody {
    return {
      type: `urn:spoor:problem:${this.code}`,
      code: this.code,
      title: problems[this.code].title,
      status: this.status,
      detail: this.message,
      ...this.extra,
    }
  }
}

/** SQLSTATE of a database error, or the code of a failed connection; undefined for anything else. */
export function errorCode(error: unknown): string | undefined {
  const code = (error as { code?: unknown } | null)?.code
  return typeof code === 'string' ? code : undefined
}

/** Of work that goes on by itself and failed in a way that nobody foresaw: what it says, since its error is for the log. */
export const unforeseen = 'It could not be done, and is tried again. The server’s log holds the cause.'
