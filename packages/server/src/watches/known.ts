import type { Knex } from 'knex'

/** Leaves out what a watch has looked at. @param bucket SQL of what it is kept under */
export function unlessKnown(query: Knex.QueryBuilder, watchId: number, bucket: string): void {
  void query.whereNotExists((known) =>
    known.select(1).from('spoor.watch_firing as f').where('f.watch_id', watchId).whereRaw(`f.bucket = ${bucket}`),
  )
}
