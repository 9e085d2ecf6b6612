import type pg from 'pg'

/** Runs one statement in a transaction with a declared context, as any business application could. */
export async function withActorContext(pool: pg.Pool, context: object, statement: string): Promise<void> {
  const client = await pool.connect()
  try {
    await client.query('begin')
    await client.query(`select set_config('spoor.context', $1, true)`, [JSON.stringify(context)])
    await client.query(statement)
    await client.query('commit')
  } catch (error) {
    await client.query('rollback')
    throw error
  } finally {
    client.release()
  }
}
