import type { RowChange, RowTrail } from '@tide/core/api/trail'
import { laneOf, type PipelineRecord } from '@tide/core/definition/pipeline'
import { Failure } from '@tide/core/failure'
import type { History, Lane } from '@tide/core/plan/lane'
import { datasetId } from '@tide/core/records/dataset'
import type { Key, Row } from '@tide/core/records/value'
import { madeColumns } from '@tide/core/shape/written'
import { keyedHash } from '@tide/engine/keyed-hash'
import { keyAtTarget } from './row-pair.ts'
import type { Services } from './services.ts'

const MOST = 200

/** What is kept of a row's changes at the target, and what of it was held. `key`: the source's own. */
export async function rowTrail(
  { sessions, store }: Services,
  record: PipelineRecord,
  index: number,
  key: Key,
): Promise<RowTrail> {
  const found = laneOf(record, index)
  if (!found || key.length !== found.lane.identity.length)
    throw new Failure('refused', 'There is no such row.', 'Choose one of the lanes, and give its whole key.')
  const { lane, run } = found
  const held = (await store.held.ofRow(run.id, datasetId(lane.source), key)).map(
    ({ id, heldAt, column, reason, state, closedAt, note }) => ({
      id,
      heldAt,
      column,
      reason,
      state,
      closedAt,
      note,
    }),
  )
  const { history } = lane
  if (!history) return { kept: false, changes: [], cut: false, held }
  const rows = await sessions.use(record.definition.to, async session => {
    const read = session.rows
    if (!read) return []
    const made = madeColumns(lane, { origin: lane.origin ?? '', hash: keyedHash(store.maskKey) })
    const parts = keyAtTarget(lane, made, null, key)
    const values = lane.key.flatMap((name, i) => {
      const value = parts[i]
      return columnOf(history, 'after', name) && typeof value === 'string' ? [{ name, value }] : []
    })
    const own =
      lane.origin === undefined ? undefined : history.columns.find(({ value }) => value.from === 'origin')
    const only = own ? [{ column: own.name, is: lane.origin! }] : []
    const under = (side: 'before' | 'after') =>
      read(
        {
          dataset: history.table,
          columns: history.columns,
          key: values.map(({ name }) => columnOf(history, side, name)!.name),
          only,
        },
        [values.map(({ value }) => value)],
      )
    if (values.length === 0) return []
    const [before, after] = [await under('before'), await under('after')]
    // What has left the row where it was is under both.
    return [...new Map([...before, ...after].map(row => [JSON.stringify(row), row])).values()]
  })
  const changes = rows.map(row => changeOf(row, history, lane)).sort(newestFirst)
  return { kept: true, changes: changes.slice(0, MOST), cut: changes.length > MOST, held }
}

function changeOf(row: Row, history: History, lane: Lane): RowChange {
  const at = (from: string) => row[history.columns.findIndex(({ value }) => value.from === from)] ?? null
  const valueOf = (side: 'before' | 'after', name: string) => {
    const column = columnOf(history, side, name)
    return (column && row[history.columns.indexOf(column)]) ?? null
  }
  const operation = at('operation') ?? ''
  const untold = new Set((at('not told') ?? '').split(', '))
  const sides = {
    before: operation !== 'insert' && operation !== 'into scope',
    after: operation !== 'delete' && operation !== 'out of scope',
  }
  const keyOf = (side: 'before' | 'after') => {
    const key = lane.key.flatMap(name => (columnOf(history, side, name) ? [valueOf(side, name)] : []))
    return sides[side] && key.every(part => part !== null) ? (key as string[]) : null
  }
  const names = history.columns.flatMap(({ value }) => (value.from === 'after' ? [value.column] : []))
  const fields = names.flatMap(name => {
    const [before, after] = [valueOf('before', name), valueOf('after', name)]
    const told =
      (!sides.before || !(untold.has('before') || untold.has(columnOf(history, 'before', name)!.name))) &&
      (!sides.after || !untold.has(columnOf(history, 'after', name)!.name))
    const changed = sides.before && sides.after ? before !== after : before !== null || after !== null
    return changed || !told ? [{ name, before, after, told }] : []
  })
  return {
    operation,
    committedAt: isoOf(at('committed at')),
    landedAt: isoOf(at('landed at')),
    transaction: at('transaction'),
    position: at('position'),
    number: Number(at('number')),
    keyBefore: keyOf('before'),
    keyAfter: keyOf('after'),
    fields,
  }
}

function columnOf(
  { columns }: History,
  side: 'before' | 'after',
  name: string,
): History['columns'][number] | undefined {
  return columns.find(({ value }) => value.from === side && value.column === name)
}

function newestFirst(a: RowChange, b: RowChange): number {
  const [left, right] = [a.committedAt ?? '', b.committedAt ?? '']
  if (left !== right) return left < right ? 1 : -1
  return b.number - a.number
}

/** From the canonical text of a zoned time. */
function isoOf(text: string | null): string | null {
  return text === null ? null : text.replace(' ', 'T').replace(/\+00$/, 'Z')
}
