import type { Failure } from '@tide/core/failure'
import type { NamingProfile } from '@tide/core/naming/profile'
import type { TargetProfile } from '@tide/core/plan/input'
import { duckdbColumn } from '@tide/core/shape/duckdb'
import { duckdbHolds } from '@tide/core/shape/duckdb-holds'
import type { CheckItem } from '@tide/core/api/browse'
import type { Config, Connector, Session } from '../contract/session.ts'
import { duckdbFailure } from './errors.ts'
import type { DuckdbConnection } from './host.ts'
import { existsSync } from 'node:fs'
import { dirname, parse, resolve } from 'node:path'
import { probeFolder } from '../folder-probe.ts'
import { fileIdentity } from './file.ts'
import { lease, WRITABLE_REMEDY } from './instance.ts'
import { query, queryRows, readCatalogue } from './read.ts'
import { readOrdered, readRow, readRows } from './rows.ts'
import { tableName } from './sql.ts'
import { DuckdbTarget } from './target.ts'

interface DuckdbConfig extends NamingProfile {
  path: string
}

const configSchema = {
  type: 'object',
  required: ['path'],
  additionalProperties: false,
  properties: {
    path: {
      type: 'string',
      title: 'File',
      description: 'Absolute path; it is made when it is not there.',
      pattern: '^/.+',
    },
    fold: {
      type: 'string',
      title: 'Letters in names',
      enum: ['none', 'upper', 'lower'],
      enumTitles: ['as they come', 'upper case only', 'lower case only'],
      default: 'none',
    },
    allowed: {
      type: 'string',
      title: 'Characters in names',
      enum: ['any', 'word'],
      enumTitles: ['any', 'letters, digits and underscores'],
      default: 'any',
    },
    maxLength: {
      type: 'integer',
      title: 'Longest name, in characters',
      minimum: 8,
      maximum: 1024,
      default: 255,
    },
  },
}

function settings(config: Config): DuckdbConfig {
  return { fold: 'none', allowed: 'any', maxLength: 255, ...config } as DuckdbConfig
}

async function open(config: Config): Promise<Session> {
  const { path, fold, allowed, maxLength } = settings(config)
  const held = await lease(path)
  const profile: TargetProfile = {
    naming: { fold, allowed, maxLength },
    typeOf: duckdbColumn,
    // DuckDB names the database after its file, and then cannot tell the two apart.
    noSchema: { name: parse(path).name, because: 'the file is called so, too' },
    nameKey: name => name.toLowerCase(),
    holdsOf: duckdbHolds,
    needsKey: 'none',
    keepsOthers: false,
  }
  /** Reading goes on beside writing, on a connection for each request. */
  const reading = async <T>(body: (connection: DuckdbConnection) => Promise<T>): Promise<T> => {
    const connection = await held.connect()
    try {
      return await body(connection)
    } catch (error) {
      throw duckdbFailure(error, path)
    } finally {
      await held.disconnect(connection)
    }
  }
  async function* streaming<T>(body: (connection: DuckdbConnection) => AsyncGenerator<T>): AsyncGenerator<T> {
    const connection = await held.connect()
    try {
      yield* body(connection)
    } catch (error) {
      throw duckdbFailure(error, path)
    } finally {
      await held.disconnect(connection)
    }
  }
  const target = new DuckdbTarget(held, profile, path)
  return {
    catalogue: () => reading(readCatalogue),
    preview: (table, limits) =>
      reading(connection => connection.question(`SELECT * FROM ${tableName(table)}`, limits)),
    count: (table, limits) =>
      reading(async connection => {
        const { rows } = await connection.question(`SELECT count(*) FROM ${tableName(table)}`, limits)
        return Number(rows[0]![0])
      }),
    row: (table, key) => reading(connection => readRow(connection, table, key)),
    query: (sql, limits) => reading(connection => query(connection, sql, limits)),
    stream: (sql, limits) => streaming(connection => queryRows(connection, sql, limits)),
    rows: (table, keys) => reading(connection => readRows(connection, table, keys)),
    async *ordered(table, limits) {
      const staging = await held.staging()
      yield* streaming(connection => readOrdered(connection, table, staging, limits))
    },
    target,
    heldAlone: `the file ${path}`,
    close: async () => {
      await target.close()
      await held.release()
    },
  }
}

/** Makes nothing: of a file that is not there, only whether it could be made is looked at. */
async function* check(config: Config): AsyncGenerator<CheckItem> {
  const { path } = settings(config)
  const what = 'Open the file'
  try {
    if (!existsSync(path)) {
      await probeFolder(nearestFolder(path), WRITABLE_REMEDY)
      yield { what, result: 'ok', found: `${path} is not there yet; it is made when it is first used.` }
      return
    }
    const session = await open(config)
    try {
      yield { what, result: 'ok', found: path }
      const { datasets } = await session.catalogue()
      yield { what: 'Read the catalogue', result: 'ok', found: `${datasets.length} tables and views` }
    } finally {
      await session.close()
    }
  } catch (error) {
    const { message, remedy } = error as Failure
    yield { what, result: 'failed', found: message, remedy }
  }
}

function nearestFolder(path: string): string {
  let folder = dirname(resolve(path))
  while (!existsSync(folder)) folder = dirname(folder)
  return folder
}

export const duckdb: Connector = {
  kind: 'duckdb',
  title: 'DuckDB',
  summary: 'A warehouse in one file on this machine.',
  band: 'warehouses',
  roles: ['target'],
  configSchema,
  // Its threads are those that the engine writes with.
  questionsAtOnce: 1,
  placeSettings: [],
  fixedWhileFollowed: [],
  identity: config => fileIdentity(settings(config).path),
  address: config => settings(config).path,
  check,
  open,
}
