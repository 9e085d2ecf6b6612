import { spawnSync } from 'node:child_process'
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import type { DiscoveredTable } from '../../src/sources/discover.ts'
import type { Column, Table } from './schema.ts'

/**
 * Schemas of real applications, as Debian's packages carry them for setting up their databases. They are fetched where
 * the machine may, taken apart without being installed, and thrown away; none is part of this repository.
 */
export const packages = {
  'roundcube-core': 'usr/share/dbconfig-common/data/roundcube/install/pgsql',
  'pdns-backend-pgsql': 'usr/share/pdns-backend-pgsql/schema/schema.pgsql.sql',
  'icinga2-ido-pgsql': 'usr/share/dbconfig-common/data/icinga2-ido-pgsql/install/pgsql',
  'bacula-director-pgsql': 'usr/share/dbconfig-common/data/bacula-director-pgsql/install/pgsql',
} as const

/** @returns the DDL of a package, or null where it cannot be fetched here. */
export function fetchSchema(name: keyof typeof packages): string | null {
  const at = mkdtempSync(join(tmpdir(), 'spoor-schema-'))
  try {
    const options = { cwd: at, encoding: 'utf8', timeout: 60_000 } as const
    if (spawnSync('apt-get', ['download', '-q', name], options).status !== 0) return null
    const archive = readdirSync(at).find((file) => file.endsWith('.deb'))
    if (!archive || spawnSync('dpkg-deb', ['-x', archive, 'x'], options).status !== 0) return null
    const file = join(at, 'x', packages[name])
    return existsSync(file) ? readFileSync(file, 'utf8') : null
  } finally {
    rmSync(at, { recursive: true })
  }
}

/** The type whose values are drawn for columns of a type of PostgreSQL's own. */
const drawnAs: Readonly<Record<string, string>> = {
  int2: 'smallint',
  int4: 'integer',
  int8: 'bigint',
  float4: 'real',
  float8: 'double precision',
  bool: 'boolean',
  varchar: 'varchar(20)',
  bpchar: 'bpchar',
  time: 'time',
}

/** Tables as they were discovered, for the workload. */
export function asTables(discovered: readonly DiscoveredTable[]): Table[] {
  return discovered
    .filter((table) => table.obstacle === null)
    .map((table) => {
      const columns = table.columns.map((column): Column => ({
        name: column.name,
        type: drawnAs[column.baseType] ?? column.baseType,
        generated: column.generated,
        required: column.required,
      }))
      const isKey = (column: Column) => table.keyColumns.includes(column.name)
      return {
        name: table.table,
        sql: '',
        key: columns.filter(isKey),
        columns: columns.filter((column) => !isKey(column)),
        written: columns,
        deferrable: 'no' as const,
        partitioned: table.partitioned,
        parent: null,
        partitions: [],
        forced: false,
      }
    })
}
