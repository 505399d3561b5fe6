/** An open lake, wherever its files are. */
import type { TargetProfile } from '@tide/core/plan/input'
import { duckdbHolds } from '@tide/core/shape/duckdb-holds'
import { lakeColumn } from '@tide/core/shape/lake'
import type { Session } from '../contract/session.ts'
import { LakeEngine } from './engine.ts'
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

/** `readable`: folders of this machine that its files are in. */
export function lakeSession(store: ObjectStore, readable: readonly string[]): Session {
  const engine = new LakeEngine(readable)
  const reader = new LakeReader(store, engine)
  const target = new LakeTarget(store, engine, PROFILE)
  return {
    catalogue: () => reader.catalogue(),
    preview: (table, limits) => reader.preview(table, limits),
    versions: (table, most) => reader.versions(table, most),
    previewAt: (table, version, limits) => reader.previewAt(table, version, limits),
    difference: (table, from, to, limits) => reader.difference(table, from, to, limits),
    count: table => reader.count(table),
    row: (table, key) => reader.row(table, key),
    rows: (table, keys) => reader.rows(table, keys),
    ordered: (table, limits) => reader.ordered(table, limits),
    query: (sql, limits) => reader.query(sql, limits),
    stream: (sql, limits) => reader.queryRows(sql, limits),
    target,
    close: async () => {
      await target.close()
      await engine.close()
      await store.close()
    },
  }
}
