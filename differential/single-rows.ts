/** Whether every row that a table tells as a place can be written back, one by one, into a table that is like it. */
import type { AppRecord } from '@tide/connectors/contract/app'
import type { WriteAnswer } from '@tide/core/app/object'
import { placeName } from '@tide/core/app/table-object'
import type { Session } from '../packages/connectors/src/contract/session.ts'
import { TableSide } from '../packages/engine/src/shapes/two-way/table-side.ts'
import type { BuiltTable } from './script.ts'
import type { Source } from './source.ts'

const COPY = 'written one by one'

/** What differs, in words; nothing when nothing does. */
export async function singleRowsAgree(
  source: Source,
  session: Session,
  tables: readonly BuiltTable[],
): Promise<string> {
  const { ident } = source.dialect
  for (const { name } of tables) {
    const like = `${ident(source.namespace)}.${ident(name)}`
    const copy = `${ident(source.namespace)}.${ident(COPY)}`
    const side = new TableSide('here', session, session.singleRows!, Date.now, undefined)
    const place = (await side.objects()).find(
      one => one.name === placeName({ namespace: source.namespace, name }),
    )
    if (!place || !place.can.create) continue
    const { datasets } = await session.catalogue()
    const { fields } = datasets.find(one => one.namespace === source.namespace && one.name === name)!
    const told = place.fields.filter(({ readOnly }) => !readOnly)
    // What is not told would be missing there.
    if (fields.some(one => !one.nullable && !one.computed && !told.some(field => field.name === one.name)))
      continue
    if (!told.some(field => field.name === place.key)) continue
    const made =
      source.kind === 'mariadb'
        ? [`CREATE TABLE ${copy} LIKE ${like}`]
        : [
            `CREATE TABLE ${copy} (LIKE ${like} INCLUDING DEFAULTS INCLUDING GENERATED)`,
            `ALTER TABLE ${copy} ADD PRIMARY KEY (${ident(place.key)})`,
          ]
    try {
      for (const sql of made) await source.hand.run(sql)
      const detail = await writtenLike(source, session, side, {
        like: [place.name, like],
        copy: [placeName({ namespace: source.namespace, name: COPY }), copy],
        key: place.key,
        columns: told.map(field => field.name),
        first: fields
          .filter(({ name, nullable, preset }) => name === place.key || !nullable || preset !== undefined)
          .map(field => field.name)
          .filter(name => told.some(field => field.name === name)),
      })
      if (detail) return `${name}, row by row: ${detail}`
    } finally {
      await source.hand.run(`DROP TABLE IF EXISTS ${copy}`)
    }
  }
  return ''
}

interface Pair {
  /** As places and in SQL. */
  like: [string, string]
  copy: [string, string]
  key: string
  columns: string[]
  /** Columns that a row is made with; the others are null until it is changed. */
  first: string[]
}

async function writtenLike(
  source: Source,
  session: Session,
  read: TableSide,
  { like, copy, key, columns, first }: Pair,
): Promise<string> {
  const signal = new AbortController().signal
  const records: AppRecord[] = []
  for await (const page of read.list(like[0], { signal })) records.push(...page)
  const side = new TableSide('there', session, session.singleRows!, Date.now, undefined)
  const only = (record: AppRecord, names: readonly string[]) =>
    Object.fromEntries(names.map(name => [name, record[name] ?? null]))
  const refused = (answers: readonly WriteAnswer[]) => answers.find(({ answer }) => answer !== 'done')
  const asked = { once: 'whole', signal }
  // Half of them at once, the others by what they need first.
  const half = (i: number) => (i % 2 === 0 ? columns : first)
  const made = await side.write(
    copy[0],
    records.map((record, i) => ({ op: 'create', values: only(record, half(i)) })),
    { ...asked, once: `${copy[1]} create ${Math.random()}` },
  )
  const failed = refused(made)
  if (failed) return `a row was not made: ${JSON.stringify(failed)}`
  const { version } = (await side.objects()).find(({ name }) => name === copy[0])!
  const changes = records.flatMap((record, i) => {
    if (i % 2 === 0) return []
    const answer = made[i] as Extract<WriteAnswer, { answer: 'done' }>
    const seen = answer.record![version!]!
    return [{ op: 'change' as const, id: answer.id!, values: only(record, columns), version: seen }]
  })
  const changed = await side.write(copy[0], changes, {
    ...asked,
    once: `${copy[1]} change ${Math.random()}`,
  })
  const lost = refused(changed)
  if (lost) return `a row was not changed: ${JSON.stringify(lost)}`
  const { ident } = source.dialect
  const isOther = (column: string) => {
    const [a, b] = [`a.${ident(column)}`, `b.${ident(column)}`]
    return source.kind === 'mariadb'
      ? `NOT (${a} <=> ${b}) OR NOT (CAST(${a} AS BINARY) <=> CAST(${b} AS BINARY))`
      : `${a}::text IS DISTINCT FROM ${b}::text`
  }
  const joined = `${like[1]} a JOIN ${copy[1]} b ON a.${ident(key)} = b.${ident(key)}`
  for (const column of columns) {
    const [row] = await source.rows(
      `SELECT a.${ident(column)}, b.${ident(column)} FROM ${joined} WHERE ${isOther(column)} LIMIT 1`,
    )
    if (row)
      return `${column} was ${JSON.stringify(row[0])?.slice(0, 300)}, and is ${JSON.stringify(row[1])?.slice(0, 300)}`
  }
  const counted = await source.rows(
    `SELECT (SELECT count(*) FROM ${like[1]}), (SELECT count(*) FROM ${copy[1]}), (SELECT count(*) FROM ${joined})`,
  )
  const numbers = new Set(counted[0])
  return numbers.size === 1 ? '' : `rows there, written and alike: ${counted[0]!.join(', ')}`
}
