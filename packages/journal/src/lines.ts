import type { ChangeEvent } from '@tide/core/records/change'
import { printName } from '@tide/core/records/dataset'
import type { LoggedRelation } from '@tide/core/records/relation'
import { unpackRow, type PackedRow } from '@tide/core/records/tuple'
import type { Journal } from './journal.ts'
import { JournalReader } from './reader.ts'

const AT_ONCE = 1_000

/**
 * The changes behind a position as JSON Lines, one change each, at most `most`. Values are canonical texts; what was
 * not sent is left out. https://jsonlines.org
 */
export async function* journalLines(
  journal: Journal,
  from: string | undefined,
  most: number,
): AsyncGenerator<string> {
  const relations = new Map<number, LoggedRelation>()
  const reader = new JournalReader(journal, from ?? journal.start.at, relation => {
    relations.set(relation.id, relation)
    return { lane: relation.id, columns: relation.columns.map((_, i) => i), since: null }
  })
  let left = most
  try {
    while (left > 0) {
      const { transactions } = await reader.read(Math.min(AT_ONCE, left))
      if (transactions.length === 0) return
      for (const { id, start, at, events } of transactions) {
        for (const event of events) {
          const relation = relations.get(event.lane)!
          yield `${JSON.stringify({ transaction: id, start, number: event.number, at, table: printName(relation.dataset), ...told(event, relation) })}\n`
          left--
        }
      }
    }
  } finally {
    await reader.close()
  }
}

function told(event: ChangeEvent, { columns }: LoggedRelation) {
  const named = (packed: PackedRow) => {
    const row = unpackRow(packed)
    return Object.fromEntries(
      columns.flatMap(({ name }, i) => (row[i] === undefined ? [] : [[name, row[i]]])),
    )
  }
  switch (event.op) {
    case 'insert':
      return { op: event.op, after: named(event.after) }
    case 'update':
      return {
        op: event.op,
        ...(event.before === event.after ? {} : { before: named(event.before) }),
        after: named(event.after),
      }
    case 'delete':
      return { op: event.op, before: named(event.before) }
    case 'truncate':
      return { op: event.op }
  }
}
