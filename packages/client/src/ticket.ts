/** What a panel is to show, and to whom. */
export interface TicketWish {
  /** Where Spoor is, such as `https://spoor.example`. */
  spoor: string
  /** The key that Spoor gave the application; it never leaves the application's server. */
  applicationKey: string
  /** Whoever is signed in to the application, by the name that Spoor knows. */
  user: string
  /** The record's table, `schema.table`. */
  table: string
  /** The values of its key, as text. */
  key: readonly string[]
}

/**
 * Asks for a ticket that shows one record's trail to one person for some minutes. For the application's server.
 * @throws Error with Spoor's own words when it refuses, or cannot be reached
 */
export async function trailTicket({ spoor, applicationKey, user, table, key }: TicketWish): Promise<string> {
  const response = await fetch(`${spoor}/api/v1/panel/tickets`, {
    method: 'POST',
    headers: { authorization: `Bearer ${applicationKey}`, 'content-type': 'application/json' },
    body: JSON.stringify({ user, table, key }),
    signal: AbortSignal.timeout(5000),
  })
  const answer = (await response.json()) as { ticket?: string; detail?: string }
  if (!response.ok || answer.ticket === undefined) throw new Error(answer.detail ?? `Spoor answered ${response.status}`)
  return answer.ticket
}
