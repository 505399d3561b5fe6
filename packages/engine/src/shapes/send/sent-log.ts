/** Writes what was sent into a table at the source: each result once, whatever dies when, for its run and number are the key. */
import type { SentState } from '@tide/connectors/contract/sent'
import type { Session } from '@tide/connectors/contract/session'
import type { TargetSide } from '@tide/connectors/contract/target'
import { singleStream, type Checkpoint } from '@tide/core/checkpoint/checkpoint'
import type { StatusTable } from '@tide/core/plan/status'
import type { PrepareStep } from '@tide/core/plan/steps'
import { Failure } from '@tide/core/failure'
import { printName, type DatasetName } from '@tide/core/records/dataset'
import { packRow } from '@tide/core/records/tuple'
import { sentLogRow, sentLogTable } from '@tide/core/send/sent-log'

const BATCH = 5_000

interface Logging {
  pipeline: string
  epoch: number
  table: DatasetName
  session: Session
  state: SentState
  now(): string
}

export class SentLog {
  private readonly target: TargetSide
  private readonly table: StatusTable
  private readonly state: SentState
  private readonly checkpoint: Checkpoint

  private constructor(target: TargetSide, table: StatusTable, state: SentState, checkpoint: Checkpoint) {
    this.target = target
    this.table = table
    this.state = state
    this.checkpoint = checkpoint
  }

  /** Makes the table where it is not there. Throws a Failure for one that somebody else has made. */
  static async open({ pipeline, epoch, table, session, state, now }: Logging): Promise<SentLog> {
    const { target } = session
    if (!target)
      throw new Failure(
        'structural',
        'No table can be made at the source to say what was sent.',
        'Leave it out in the setup.',
      )
    const checkpoint = checkpointOf(pipeline, epoch, table, now())
    const found = await target.takeCheckpoint(pipeline, epoch, 0)
    const { datasets, schemas } = await session.catalogue()
    const { nameKey } = target.profile
    const same = (a: string, b: string) => nameKey(a) === nameKey(b)
    const there = datasets.some(
      ({ namespace, name }) => same(namespace, table.namespace) && same(name, table.name),
    )
    const isOurs = found !== undefined && singleStream(found).origin === printName(table)
    if (there && !isOurs)
      throw new Failure(
        'structural',
        `${printName(table)} is there already, and is not this pipeline’s.`,
        'Choose another name for the table that says what was sent.',
      )
    const made = sentLogTable(table, target.profile)
    if (!there) {
      const steps: PrepareStep[] = [
        ...(schemas.some(name => same(name, table.namespace))
          ? []
          : [{ step: 'create schema' as const, schema: table.namespace }]),
        { step: 'create table', ...made },
      ]
      if (found) await target.change(steps, [], checkpoint)
      else await target.prepare(steps, checkpoint)
      // It gets all that is remembered.
      await state.setLogged(0)
    } else if ((await state.logged()) === null) await state.setLogged(0)
    return new SentLog(target, made, state, checkpoint)
  }

  /** What is not in it yet. */
  async write(): Promise<void> {
    const { target, table, state, checkpoint } = this
    for (;;) {
      const results = await state.resultsAfter((await state.logged()) ?? 0, BATCH)
      const last = results.at(-1)
      if (!last) return
      const puts = results.map(result => {
        const row = sentLogRow(result)
        const key = [row[0]!, row[1]!]
        return { key, identity: key, row: packRow(row) }
      })
      const transaction = await target.begin()
      try {
        await transaction.apply([{ lane: table, effect: { truncate: false, removed: [], puts } }])
        await transaction.commit(checkpoint)
      } catch (thrown) {
        await transaction.rollback().catch(() => {}) // what has failed is what matters
        throw thrown
      }
      await state.setLogged(last.n)
    }
  }
}

/** By its stream's name it is known which table is the pipeline's own. */
function checkpointOf(pipeline: string, epoch: number, table: DatasetName, at: string): Checkpoint {
  return {
    pipeline,
    epoch,
    streams: [
      {
        origin: printName(table),
        position: { kind: 'sent', incarnation: '', at: '' },
        completeUpTo: at,
        consistent: true,
        lanes: [],
      },
    ],
  }
}
