/** Histories by the target's own SQL: no change twice, and in the end a row that is there was not deleted last. */
import { comparePositions } from '@tide/core/position/order'
import type { Lane } from '@tide/core/plan/lane'
import { identOf, targetRows, unmarked } from './compare.ts'
import type { Following } from './following.ts'
import type { Systems } from './systems.ts'

/** What is not so, in words; nothing when all is. */
export async function historyAgrees(systems: Systems, following: Following, folder: string): Promise<string> {
  const ident = identOf(following.target)
  const { position } = following.verifications.lanes.at(-1)?.verified ?? {}
  for (const lane of following.plan.lanes) {
    const { history, target } = lane
    if (!history) continue
    const key = keyOf(lane)
    const list = [
      'position',
      'number',
      'operation',
      ...['before', 'after'].flatMap(side => key.map(name => `${side}_${name}`)),
    ]
    const changes = await targetRows(
      systems,
      following.target,
      folder,
      `SELECT ${list.map(name => text(following.target, ident(nameIn(lane, name)))).join(', ')} FROM ${ident(history.table.namespace)}.${ident(history.table.name)}`,
    )
    const places = new Set(changes.map(([place, number]) => `${place} ${number}`))
    if (places.size < changes.length)
      return `history of ${target.name}: ${changes.length} changes, of which ${places.size} are different`
    if (!position || key.length === 0 || lane.deletes !== undefined || lane.there !== undefined) continue
    const at = (place: string | null) => ({ ...position, at: place! })
    changes.sort((a, b) => {
      const order = comparePositions(at(a[0]!), at(b[0]!))
      return order === 'before' ? -1 : order === 'after' ? 1 : Number(a[1]) - Number(b[1])
    })
    const present = new Map<string, boolean>()
    for (const [, , operation, ...sides] of changes) {
      const [before, after] = [sides.slice(0, key.length), sides.slice(key.length)].map(side =>
        JSON.stringify(side),
      )
      if (operation === 'truncate') for (const known of present.keys()) present.set(known, false)
      if (operation === 'delete' || operation === 'out of scope' || operation === 'update')
        present.set(before!, false)
      if (operation === 'insert' || operation === 'into scope' || operation === 'update')
        present.set(after!, true)
    }
    const there = await targetRows(
      systems,
      following.target,
      folder,
      `SELECT ${key.map(name => text(following.target, ident(name))).join(', ')} FROM ${ident(target.namespace)}.${ident(target.name)}${unmarked(lane, ident)}`,
    )
    const found = new Set(there.map(row => JSON.stringify(row)))
    for (const [row, is] of present)
      if (found.has(row) !== is && row !== JSON.stringify(key.map(() => null)))
        return `history of ${target.name}: ${row} ${is ? 'was there last, and is not' : 'went last, and is there'}`
  }
  return ''
}

/** The key's columns, where each is a text or a whole number, which all systems print alike. */
function keyOf({ key, writes }: Lane): string[] {
  const columns = key.map(name => writes.find(column => column.name === name)!)
  const plain = columns.every(
    ({ value, type, nativeType }) =>
      value.from === 'column' &&
      ((type.kind === 'utf8' && /^(varchar|text|longtext)/i.test(nativeType)) || type.kind === 'int'),
  )
  return plain ? [...key] : []
}

function nameIn({ history }: Lane, name: string): string {
  return history!.columns.find(column => column.name.toLowerCase() === name.toLowerCase())!.name
}

function text(target: Following['target'], column: string): string {
  return target === 'mariadb'
    ? `CAST(${column} AS CHAR)`
    : `CAST(${column} AS ${target === 'duckdb' ? 'VARCHAR' : 'text'})`
}
