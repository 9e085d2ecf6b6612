import pg from 'pg'

export const templateName = 'spoor_test_template'
/** Passwords of logins that exist only in the private test cluster. */
const testPassword = 'test'
export const testRoles = [
  'spoor_test_owner',
  'spoor_test_app',
  'spoor_test_eraser',
  'spoor_test_source',
  'business_owner',
  'business_app',
  'stranger',
] as const
export type TestRole = (typeof testRoles)[number]

export function urlFor(clusterUrl: string, database: string, role?: TestRole): string {
  const url = new URL(clusterUrl)
  url.pathname = `/${database}`
  if (role) {
    url.username = role
    url.password = testPassword
  }
  return url.href
}

export function ownerUrlOf(clusterUrl: string, database: string): string {
  return urlFor(clusterUrl, database, 'spoor_test_owner')
}

export async function asSuperuser<T>(clusterUrl: string, work: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = new pg.Client({ connectionString: clusterUrl })
  await client.connect()
  try {
    return await work(client)
  } finally {
    await client.end()
  }
}

/** Roles and the migrated template, made anew so that a changed migration is never tested on an old schema. */
export async function prepareCluster(clusterUrl: string): Promise<void> {
  await asSuperuser(clusterUrl, async (client) => {
    const { rows } = await client.query<{ datname: string }>(
      `select datname from pg_database where datname like 'spoor_test_%'`,
    )
    const { rows: prepared } = await client.query<{ gid: string; database: string }>(
      `select gid, database from pg_prepared_xacts where database like 'spoor_test_%'`,
    )
    // A test that failed half-way may have left a prepared transaction, which keeps its database from being dropped.
    for (const { gid, database } of prepared)
      await asSuperuser(urlFor(clusterUrl, database), (there) => there.query(`rollback prepared '${gid}'`))
    for (const { datname } of rows) await client.query(`drop database "${datname}" with (force)`)
    for (const role of testRoles) {
      const { rowCount } = await client.query('select from pg_roles where rolname = $1', [role])
      if (!rowCount) await client.query(`create role ${role} login password '${testPassword}'`)
    }
    await client.query('grant business_owner to spoor_test_source')
    await client.query(`create database ${templateName} owner spoor_test_owner`)
  })
}
