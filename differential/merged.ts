/** The merged tables of a lake, read by others' eyes: the metadata's Avro by a reader of its own, the files by their field ids. */
import { DuckDBInstance } from '@duckdb/node-api'
import { avroMetadata, avroRead } from 'icebird'
import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { fileURLToPath } from 'node:url'

interface Metadata {
  'current-snapshot-id'?: number
  'current-schema-id': number
  schemas: { 'schema-id': number; fields: { id: number; name: string; doc: string }[] }[]
  snapshots: { 'snapshot-id': number; 'manifest-list': string; summary: Record<string, string> }[]
}

interface Entry {
  status: number
  data_file: { file_path: string; record_count: bigint; file_size_in_bytes: bigint }
}

const ident = (name: string) => `"${name.replaceAll('"', '""')}"`
const literal = (text: string) => `'${text.replaceAll("'", "''")}'`

/** Asks about all merged tables of a lake. */
export async function rowsOfMerged(lake: string, sql: string): Promise<(string | null)[][]> {
  const instance = await DuckDBInstance.create(':memory:', { threads: '1' })
  const connection = await instance.connect()
  try {
    await connection.run(`SET TimeZone = 'UTC'`)
    for (const folder of readdirSync(lake)) {
      if (!existsSync(join(lake, folder, 'metadata'))) continue
      const [namespace, name] = folder.split('.').map(decodeURIComponent) as [string, string]
      await connection.run(`CREATE SCHEMA IF NOT EXISTS ${ident(namespace)}`)
      await connection.run(
        `CREATE VIEW ${ident(namespace)}.${ident(name)} AS ${await selectOf(join(lake, folder))}`,
      )
    }
    return (await connection.runAndReadAll(sql)).getRows() as (string | null)[][]
  } finally {
    connection.disconnectSync()
    instance.closeSync()
  }
}

async function selectOf(folder: string): Promise<string> {
  const metadata = newest(folder)
  const { fields } = metadata.schemas.find(one => one['schema-id'] === metadata['current-schema-id'])!
  const snapshot = metadata.snapshots.find(one => one['snapshot-id'] === metadata['current-snapshot-id'])
  const none = `SELECT ${fields.map(({ name, doc }) => `CAST(NULL AS ${doc}) AS ${ident(name)}`).join(', ')} WHERE false`
  if (!snapshot) return none
  const entries: Entry[] = []
  for (const { manifest_path } of await avro<{ manifest_path: string }>(snapshot['manifest-list']))
    entries.push(...(await avro<Entry>(manifest_path)).filter(({ status }) => status !== 2))
  const told = entries.reduce((sum, { data_file }) => sum + Number(data_file.record_count), 0)
  if (String(told) !== snapshot.summary['total-records'])
    throw new Error(`${folder}: ${told} rows in files, ${snapshot.summary['total-records']} told`)
  for (const { data_file } of entries) {
    const { length } = readFileSync(fileURLToPath(data_file.file_path))
    if (length !== Number(data_file.file_size_in_bytes))
      throw new Error(`${data_file.file_path} has another size`)
  }
  if (entries.length === 0) return none
  const files = entries.map(({ data_file }) => literal(fileURLToPath(data_file.file_path))).join(', ')
  // Lists have ids within, which this way of reading does not know.
  if (fields.some(({ doc }) => doc.endsWith('[]')))
    return `SELECT ${fields.map(({ name, doc }) => `CAST(${ident(name)} AS ${doc}) AS ${ident(name)}`).join(', ')} FROM read_parquet([${files}], hive_partitioning = false)`
  const schema = fields.map(
    ({ id, name, doc }) => `${id}: {name: ${literal(name)}, type: ${literal(doc)}, default_value: NULL}`,
  )
  return `SELECT ${fields.map(({ name }) => ident(name)).join(', ')} FROM read_parquet([${files}], hive_partitioning = false, schema = MAP {${schema.join(', ')}})`
}

function newest(folder: string): Metadata {
  const versions = readdirSync(join(folder, 'metadata')).flatMap(name => {
    const [, version] = /^v(\d+)\.metadata\.json$/.exec(name) ?? []
    return version === undefined ? [] : [Number(version)]
  })
  versions.sort((a, b) => a - b)
  if (versions.some((version, i) => version !== versions[0]! + i))
    throw new Error(`${folder}: a version is missing`)
  return JSON.parse(
    readFileSync(join(folder, 'metadata', `v${versions.at(-1)}.metadata.json`), 'utf8'),
  ) as Metadata
}

async function avro<T>(uri: string): Promise<T[]> {
  const bytes = readFileSync(fileURLToPath(uri))
  const reader = { view: new DataView(bytes.buffer, bytes.byteOffset, bytes.length), offset: 0 }
  const { metadata, syncMarker } = await avroMetadata(reader)
  return (await avroRead({ reader, metadata, syncMarker })) as T[]
}
