/**
 * A change that a guard of Spoor's refused. Its message is meant for whoever made the change; nothing of the transaction was
 * saved.
 */
export class GuardRefusal extends Error {
  /** The number of the guard. */
  readonly guard: number
  /** The record that it is about, by its key as a list of texts, and what it is called. */
  readonly key: readonly string[]
  readonly label: string
  /** What was to be done with it: `create`, `change` or `delete`. */
  readonly action: string

  constructor(message: string, detail: GuardDetail, cause: unknown) {
    super(message, { cause })
    this.name = 'GuardRefusal'
    this.guard = detail.guard
    this.key = detail.key
    this.label = detail.label
    this.action = detail.action
  }
}

interface GuardDetail {
  guard: number
  key: readonly string[]
  label: string
  action: string
}

const refusedCode = 'SPR03'

/** The refusal that an error of the database is, and what the source said of it; null for any other error. */
export function readRefusal(error: unknown): { refusal: GuardRefusal; detail: string } | null {
  if (typeof error !== 'object' || error === null) return null
  const { code, detail, message } = error as { code?: unknown; detail?: unknown; message?: unknown }
  if (code !== refusedCode || typeof detail !== 'string') return null
  try {
    const told = JSON.parse(detail) as { guard: number; key: string; label: string; action: string }
    const key = JSON.parse(told.key) as string[]
    return { refusal: new GuardRefusal(String(message), { ...told, key }, error), detail }
  } catch {
    return null // Of another making: it is passed on as it came.
  }
}
