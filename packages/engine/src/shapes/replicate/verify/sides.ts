/** Both sides of a lane as a verification reads them. */
import type { KeyedTable } from '@tide/connectors/contract/records'
import type { Session } from '@tide/connectors/contract/session'
import { NoValue } from '@tide/core/expression/values'
import { Failure } from '@tide/core/failure'
import { printName } from '@tide/core/records/dataset'
import { csvLine } from '@tide/core/records/csv'
import { wholeLines } from '@tide/core/records/csv-lines'
import { csvRows } from '@tide/core/records/csv-rows'
import { keyOf, type Key, type Row } from '@tide/core/records/value'
import { copiedShaper } from '@tide/core/shape/copied'
import type { Shaping } from '@tide/core/shape/written'
import { comparedRow, type ComparedRow } from '@tide/core/verify/compared-row'
import { keyIdentity } from '@tide/core/verify/ordered-comparison'
import type { Expected } from '@tide/core/verify/verdict'
import { verifiedLane, type VerifiedLane } from '@tide/core/verify/verified-lane'
import type { WorkingLane } from '../lanes.ts'

const READ_MS = 24 * 3_600_000

type Able = Required<Pick<Session, 'ordered' | 'rows'>>

export class LaneSides {
  readonly lane: WorkingLane
  readonly verified: VerifiedLane
  /** The same for keys that both sides take for the same. */
  readonly keyId: (key: Key) => string
  /** Keys of rows at the source of which no row can be made, since somebody took them. */
  private unmade: Key[] = []
  private readonly shaping: Shaping
  private readonly source: Able
  private readonly sourceClock: NonNullable<Session['clock']>
  private readonly target: Able
  private readonly compared: ComparedRow
  private readonly now: () => string

  /** Throws a Failure where the lane's rows cannot be held against each other. */
  constructor(
    lane: WorkingLane,
    shaping: Shaping,
    { from, to }: { from: Session; to: Session },
    now: () => string,
  ) {
    const verified = verifiedLane(lane.plan, shaping)
    if ('because' in verified) {
      throw new Failure(
        'refused',
        `The rows of ${printName(lane.plan.target)} cannot be found again at the source: ${verified.because}.`,
        'Compare their counts.',
      )
    }
    this.lane = lane
    this.verified = verified
    this.shaping = shaping
    this.source = ableOf(from)
    this.sourceClock = clockOf(from)
    this.target = ableOf(to)
    this.compared = comparedRow(verified.lane, shaping)
    this.keyId = keyIdentity(verified)
    this.now = now
  }

  /** What the target should have, as lines in the order of its key. */
  async *sourceLines(signal: AbortSignal): AsyncGenerator<Uint8Array> {
    const { lane, order, quotedAtSource: quoted, sourceKey: key } = this.verified
    const { dataset, columns } = this.lane.source
    const where = lane.scope === null ? {} : { where: lane.scope }
    const table = { dataset, columns, key, order, quoted, ...where }
    const shape = copiedShaper(lane, this.shaping)
    const rows = this.source.ordered(table, { timeoutMs: READ_MS, signal })
    if (!shape) yield* rows
    else for await (const lines of wholeLines(rows)) yield this.shaped(lines, shape)
  }

  targetLines(signal: AbortSignal): AsyncGenerator<Uint8Array> {
    const { order, quotedAtTarget: quoted } = this.verified
    const table = { ...this.targetTable, order, quoted }
    return this.target.ordered(table, { timeoutMs: READ_MS, signal })
  }

  /** What should be at the target under these keys, as it stands at the source now. `swept`: up to when rows were looked for that time moves. */
  async expected(keys: readonly Key[], swept: string | undefined): Promise<Map<string, Expected>> {
    const { keyPlaces } = this.verified
    const at = this.now()
    const expected = new Map<string, Expected>()
    for (const row of await this.sourceRows(keys)) {
      try {
        const made = this.compared(row, at)
        const id = this.keyId(this.sourceKeyOf(row))
        const moving =
          swept !== undefined && (made === undefined) !== (this.compared(row, swept) === undefined)
        if (moving) expected.set(id, 'moving')
        else if (made)
          expected.set(
            this.keyId(keyOf(made, keyPlaces)),
            made.map(value => value ?? null),
          )
      } catch (thrown) {
        if (!(thrown instanceof NoValue)) throw thrown
        expected.set(this.keyId(this.sourceKeyOf(row)), 'no value')
      }
    }
    return expected
  }

  sourceRows(keys: readonly Key[]): Promise<Row[]> {
    const { dataset, columns } = this.lane.source
    return this.source.rows({ dataset, columns, key: this.verified.sourceKey }, keys)
  }

  /** Rows under these keys at the target; of one key there may be several where nothing keeps it unique. */
  async there(keys: readonly Key[]): Promise<Map<string, Row[]>> {
    const there = new Map<string, Row[]>()
    for (const row of await this.target.rows(this.targetTable, keys)) {
      const id = this.keyId(keyOf(row, this.verified.keyPlaces))
      const others = there.get(id)
      if (others) others.push(row)
      else there.set(id, [row])
    }
    return there
  }

  /** The source's own time. */
  clock(): Promise<string> {
    return this.sourceClock()
  }

  sourceKeyOf(row: Row): Key {
    const { reads } = this.lane.plan
    return keyOf(
      row,
      this.verified.sourceKey.map(name => reads.findIndex(column => column.name === name)),
    )
  }

  private get targetTable(): KeyedTable {
    const { lane, keyPlaces, deletedAt } = this.verified
    const { part } = this.lane.target
    return {
      dataset: lane.target,
      columns: lane.writes,
      key: keyPlaces.map(place => lane.writes[place]!.name),
      only: [
        ...(part ? [{ column: part.column, is: part.value }] : []),
        ...(deletedAt === undefined ? [] : [{ column: deletedAt, is: null }]),
      ],
    }
  }

  private shaped(lines: Uint8Array, shape: NonNullable<ReturnType<typeof copiedShaper>>): Uint8Array {
    const at = this.now()
    try {
      return shape(lines, { position: null, landedAt: at })
    } catch (thrown) {
      if (!(thrown instanceof Failure) || thrown.kind !== 'value') throw thrown
    }
    const made = csvRows(lines).flatMap(row => {
      try {
        const one = this.compared(row, at)
        return one ? [one] : []
      } catch (thrown) {
        if (!(thrown instanceof NoValue)) throw thrown
        this.unmade.push(this.sourceKeyOf(row))
        return []
      }
    })
    return Buffer.from(made.map(csvLine).join(''))
  }

  takeUnmade(): Key[] {
    const taken = this.unmade
    this.unmade = []
    return taken
  }
}

function ableOf({ ordered, rows }: Session): Able {
  if (ordered && rows) return { ordered, rows }
  throw new Failure('refused', 'One of its systems cannot be looked through.', 'Compare their counts.')
}

/** Throws a Failure where the source does not tell its time. */
export function clockOf({ clock }: Session): NonNullable<Session['clock']> {
  if (clock) return clock
  throw new Failure(
    'refused',
    'The source does not tell its time, so that it cannot be known what should have landed.',
    'Pause what writes there, and compare by hand.',
  )
}
