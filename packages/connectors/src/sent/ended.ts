/** What is written of calls that are over. */
import type { SentCall, SentOperation, SentOutcome } from '../contract/sent.ts'

export type Statement = [sql: string, values: string[]]

/** A list that comes as JSON. */
export const LISTED = `SELECT unnest(from_json($1, '["VARCHAR"]'))`

const GONE = 'It is not there any more; the next run makes it anew.'

type EndedRow = ReturnType<typeof endedRow>

export interface EndedCall {
  once: string
  rows: EndedRow[]
  at: string
}

/** An outcome for each of its operations. */
export function endedCall(call: SentCall, outcomes: readonly SentOutcome[], at: string): EndedCall {
  const rows = call.operations.map((operation, n) => endedRow(call, operation, outcomes[n]!))
  return { once: call.once, rows, at }
}

function endedRow(
  { run }: SentCall,
  { op, key, id, values, becomes, was, told }: SentOperation,
  outcome: SentOutcome,
) {
  const refused = 'reason' in outcome
  const gone = 'gone' in outcome
  return {
    run,
    op,
    key: JSON.stringify(key),
    id: refused || gone ? id : (outcome.id ?? id),
    was: was && JSON.stringify(was),
    vals: JSON.stringify(values),
    becomes: JSON.stringify(op === 'create' ? { ...becomes, ...values } : becomes),
    told,
    field: refused ? outcome.field : null,
    reason: refused ? outcome.reason : gone ? GONE : null,
    remedy: refused ? outcome.remedy : null,
    gone,
  }
}

const ENDED = [
  'run',
  'op',
  'key',
  'id',
  'was',
  'vals',
  'becomes',
  'told',
  'field',
  'reason',
  'remedy',
  'gone',
] as const

/** Rows column by column: DuckDB takes lists of texts apart twice as fast as a list of rows. */
function endedTable(rows: readonly EndedRow[]): Statement {
  const columns = ENDED.map(
    (name, i) =>
      `unnest(from_json($${i + 1}, '["${name === 'gone' ? 'BOOLEAN' : 'VARCHAR'}"]')) AS "${name}"`,
  )
  return [
    `CREATE OR REPLACE TEMP TABLE ended AS SELECT ${columns.join(', ')}`,
    ENDED.map(name => JSON.stringify(rows.map(row => row[name]))),
  ]
}

/** All of them in one transaction. */
export function statementsOf(calls: readonly EndedCall[]): Statement[] {
  const rows = calls.flatMap(one => one.rows)
  const { at } = calls.at(-1)!
  const [changes, refuses] = [
    rows.some(({ op }) => op !== 'create'),
    rows.some(({ reason }) => reason !== null),
  ]
  const when = (needed: boolean, ...statements: Statement[]) => (needed ? statements : [])
  return [
    // Taken apart once, and looked at by all that follows.
    endedTable(rows),
    // What is created was not there.
    ...when(changes, [
      'DELETE FROM sent WHERE key IN (SELECT key FROM ended WHERE reason IS NULL OR gone)',
      [],
    ]),
    [
      `INSERT INTO sent SELECT key, id, becomes, told, $1 FROM ended WHERE reason IS NULL AND op <> 'remove'`,
      [at],
    ],
    ['DELETE FROM refused WHERE key IN (SELECT key FROM ended)', []],
    ...when(refuses, [
      `INSERT INTO refused SELECT key, op, id, vals, was, told, field, reason, remedy, $1 FROM ended WHERE reason IS NOT NULL AND NOT gone`,
      [at],
    ]),
    [
      `INSERT INTO result(run, done_at, op, key, id, was, vals, field, reason)
       SELECT run, $1, op, key, id, was, vals, field, reason FROM ended`,
      [at],
    ],
    [`INSERT INTO over ${LISTED}`, [JSON.stringify(calls.map(({ once }) => once))]],
  ]
}
