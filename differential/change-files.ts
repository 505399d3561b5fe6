/** The tables that change files make, by their guide: each row is put together of what its changes have told. */
import { DuckDBInstance, type DuckDBConnection } from '@duckdb/node-api'
import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

interface Published {
  reset: boolean
  schema: number
  files: { path: string }[]
}

interface Schema {
  table: { namespace: string; name: string }
  key: string[]
  columns: { name: string; nativeType: string }[]
}

const ident = (name: string) => `"${name.replaceAll('"', '""')}"`
const literal = (text: string) => `'${text.replaceAll("'", "''")}'`
const json = <T>(path: string) => JSON.parse(readFileSync(path, 'utf8')) as T

/** Asks about all tables of a lake of Parquet files. */
export async function rowsOfFiles(lake: string, sql: string): Promise<(string | null)[][]> {
  const instance = await DuckDBInstance.create(':memory:', { threads: '1' })
  const connection = await instance.connect()
  try {
    await connection.run(`SET TimeZone = 'UTC'`)
    for (const folder of readdirSync(lake)) {
      if (existsSync(join(lake, folder, 'manifest'))) await makeTable(connection, join(lake, folder))
    }
    return (await connection.runAndReadAll(sql)).getRows() as (string | null)[][]
  } finally {
    connection.disconnectSync()
    instance.closeSync()
  }
}

async function makeTable(connection: DuckDBConnection, folder: string): Promise<void> {
  const manifests = readdirSync(join(folder, 'manifest')).sort()
  manifests.forEach((name, i) => {
    if (Number.parseInt(name, 10) !== i + 1) throw new Error(`${folder}: ${name} is manifest ${i + 1}`)
  })
  const published = manifests.map(name => json<Published>(join(folder, 'manifest', name)))
  const { key, columns, table } = json<Schema>(join(folder, 'schema', `${published.at(-1)!.schema}.json`))
  const named = new Set(published.flatMap(({ files }) => files.map(({ path }) => path)))
  const from = published.map(({ reset }) => reset).lastIndexOf(true)
  const files = published
    .slice(Math.max(0, from))
    .flatMap(one => one.files.map(({ path }) => join(folder, path)))
  if (new Set(files).size !== files.length) throw new Error(`${folder}: a file is published twice`)
  const own = columns.filter(({ name }) => !/^(change|before)_/.test(name)).map(({ name }) => name)
  await connection.run(`CREATE SCHEMA IF NOT EXISTS ${ident(table.namespace)}`)
  const shown = own.map(name => `${ident(name)} ${columns.find(one => one.name === name)!.nativeType}`)
  const full = `${ident(table.namespace)}.${ident(table.name)}`
  await connection.run(`CREATE TABLE ${full} (${shown.join(', ')})`)
  if (named.size === 0 || files.length === 0) return
  const list = `[${files.map(literal).join(', ')}]`
  await connection.run(
    `CREATE OR REPLACE TABLE changes AS SELECT row_number() OVER () AS "the place", * FROM read_parquet(${list}, hive_partitioning = false)`,
  )
  // In hexadecimal digits, since the driver takes a mark at the beginning of a text for none of it.
  const text = (name: string) => `hex(encode(CAST(${ident(name)} AS VARCHAR)))`
  const list2 = [...key.map(text), ...key.map(name => text(`before_${name}`))]
  const { length } = key
  const read = await connection.runAndReadAll(
    `SELECT change_operation, CAST(change_not_told AS VARCHAR), ${list2.join(', ')} FROM changes ORDER BY "the place"`,
  )
  // Of each row, in which change each of its values stands.
  const rows = new Map<string, number[]>()
  for (const [i, row] of (read.getRows() as (string | null)[][]).entries()) {
    const [operation, untold, ...keys] = row as [string, string | null, ...(string | null)[]]
    const [after, before] = [keys.slice(0, length), keys.slice(length)]
    const had = rows.get(JSON.stringify(before)) ?? rows.get(JSON.stringify(after))
    if (operation === 'truncate') rows.clear()
    else if (before.every(part => part !== null)) rows.delete(JSON.stringify(before))
    if (!/^(copy|insert|update|into scope)$/.test(operation)) continue
    const hidden = untold === null ? [] : (JSON.parse(untold) as string[])
    rows.set(
      JSON.stringify(after),
      own.map((name, column) => (hidden.includes(name) ? (had?.[column] ?? 0) : i + 1)),
    )
  }
  if (rows.size === 0) return
  const places = [...rows.values()].map(one => `(${one.join(', ')})`)
  const joins = own.map((_, i) => `LEFT JOIN changes c${i} ON c${i}."the place" = p${i}`).join(' ')
  await connection.run(
    `INSERT INTO ${full} SELECT ${own.map((name, i) => `c${i}.${ident(name)}`).join(', ')}
       FROM (VALUES ${places.join(', ')}) places(${own.map((_, i) => `p${i}`).join(', ')}) ${joins}`,
  )
}
