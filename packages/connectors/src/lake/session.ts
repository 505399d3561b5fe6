/** An open lake, wherever its files are. */
import type { TargetProfile } from '@tide/core/plan/input'
import { duckdbHolds } from '@tide/core/shape/duckdb-holds'
import { lakeColumn } from '@tide/core/shape/lake'
import type { Session } from '../contract/session.ts'
import type { DatasetName } from '@tide/core/records/dataset'
import { LakeEngine } from './engine.ts'
import { FileReader } from './files/file-reader.ts'
import { FILES, FileTables, typesSaid } from './files/file-tables.ts'
import { filesSide } from './files/side.ts'
import type { ObjectStore } from './object-store.ts'
import { LakeReader } from './read.ts'
import { LakeTarget } from './target.ts'

const PROFILE: TargetProfile = {
  // What is no letter takes three characters of a path, of which each part has 255.
  naming: { fold: 'none', allowed: 'any', maxLength: 120, maxBytes: 120 },
  typeOf: lakeColumn,
  nameKey: name => name,
  holdsOf: duckdbHolds,
  needsKey: 'none',
  keepsOthers: false,
  lake: true,
}

/** `readable`: folders of this machine that its files are in. `types`: of columns of files, where somebody has said them. */
export function lakeSession(store: ObjectStore, readable: readonly string[], types: string): Session {
  const engine = new LakeEngine(readable)
  const reader = new LakeReader(store, engine)
  const target = new LakeTarget(store, engine, PROFILE)
  const tables = new FileTables(store, engine, typesSaid(types))
  const files = new FileReader(tables)
  const ofFiles = ({ namespace }: DatasetName) => namespace === FILES
  return {
    catalogue: async () => {
      const [lake, others] = await Promise.all([reader.catalogue(), tables.datasets()])
      const notFollowed = 'it is a table of this lake, which its pipeline writes'
      return {
        schemas: others.length > 0 ? [...lake.schemas, FILES] : lake.schemas,
        datasets: [...lake.datasets.map(dataset => ({ ...dataset, notFollowed })), ...others],
      }
    },
    preview: (table, limits) =>
      ofFiles(table) ? files.preview(table, limits) : reader.preview(table, limits),
    versions: (table, most) => (ofFiles(table) ? Promise.resolve([]) : reader.versions(table, most)),
    previewAt: (table, version, limits) => reader.previewAt(table, version, limits),
    difference: (table, from, to, limits) => reader.difference(table, from, to, limits),
    count: (table, limits) => (ofFiles(table) ? files.count(table, limits) : reader.count(table)),
    row: (table, key) => (ofFiles(table.dataset) ? files.row(table, key) : reader.row(table, key)),
    rows: (table, keys) => (ofFiles(table.dataset) ? files.rows(table, keys) : reader.rows(table, keys)),
    ordered: (table, limits) =>
      ofFiles(table.dataset) ? files.ordered(table, limits) : reader.ordered(table, limits),
    scan: (table, limits) => files.scan(table, limits),
    clock: () => Promise.resolve(new Date().toISOString().replace('Z', '000Z')),
    together: (lane, live, sql, limits) => reader.together(lane, live, sql, limits),
    query: (sql, limits) => reader.query(sql, limits),
    stream: (sql, limits) => reader.queryRows(sql, limits),
    log: filesSide(store, tables),
    target,
    close: async () => {
      await target.close()
      await engine.close()
      await store.close()
    },
  }
}
