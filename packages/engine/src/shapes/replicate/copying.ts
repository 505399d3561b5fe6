/** Copies lanes of an open pipeline, with what is told of that: rates, runs, log. */
import { printName } from '@tide/core/records/dataset'
import type { JournaledSource } from '../../journal/source.ts'
import type { ReplicationRun } from '../shape.ts'
import { copyLanes, type RangeTold } from './copy.ts'
import { copyRate, type Known } from './known.ts'
import type { WorkingLane } from './lanes.ts'
import type { OpenPipeline } from './open.ts'

export class Copying {
  private readonly run: ReplicationRun
  private readonly known: Known
  private readonly open: OpenPipeline
  /** Lanes of which some row did not fit when they were copied. */
  private readonly careful = new Set<number>()

  constructor(run: ReplicationRun, known: Known, open: OpenPipeline) {
    this.run = run
    this.known = known
    this.open = open
  }

  /** Until all of them are copied, the signal aborts, or it is found that some row of a lane does not fit. */
  async copy(source: JournaledSource, lanes: readonly WorkingLane[], signal: AbortSignal): Promise<void> {
    const { run, known, open } = this
    const { checkpoint } = open
    const { now } = run.parts.surroundings
    const { definition } = run.record
    // All that is copied at once is one run, with those that go on beside.
    if (lanes.length === known.lanes.length) await run.runs.end('follow', 'ended', 'All is copied again.')
    run.runs.going('copy')
    let rows = 0
    const began = now()
    for (const { index } of lanes) known.copyRates[index] = copyRate(began)
    const careful = new Set(this.careful)
    const view = await run.patiently(patience => source.view(patience))
    try {
      const readers = Math.min(view.readers, definition.speed?.readers ?? view.readers)
      await copyLanes(view, readers, { ...open, careful: this.careful }, lanes, signal, told => {
        rows += told.rows
        this.told(told)
      })
    } catch (thrown) {
      const found = [...this.careful].filter(index => !careful.has(index))
      if (found.length === 0) throw thrown
      const names = found.map(index => printName(known.lanes[index]!.plan.source))
      await run.log(
        'warning',
        `Some row of ${names.join(', ')} does not fit; its rows are looked at one by one from here on.`,
        { lanes: names },
      )
      return
    } finally {
      await view.close()
    }
    if (!lanes.every(({ index }) => checkpoint.now.lanes[index]!.copied)) return
    await run.runs.end('copy', 'done')
    if (source === open.source) await run.keepPosition('copied')
    const seconds = ((now() - began) / 1000).toFixed(1)
    await run.log('info', `Copied ${rows.toLocaleString('en')} rows in ${seconds} s.`)
  }

  /** A range has landed. */
  private told({ lane, rows, bytes, beganAt }: RangeTold): void {
    const { run, known, open } = this
    const table = printName(known.lanes[lane]!.plan.source)
    run.succeeded()
    const batch = { rows, bytes, inserted: rows, updated: 0, deleted: 0, truncated: 0, beganAt }
    run.runs.batch('copy', table, 'full', batch)
    run.runs.count('copy', { reads: rows, writes: 1 })
    run.detail(() => ({
      message: `Copied a range of ${table}: ${rows.toLocaleString('en')} rows, ${bytes.toLocaleString('en')} bytes.`,
      lanes: [table],
    }))
    known.rowsThere[lane] = open.checkpoint.now.lanes[lane]!.copiedRows
    known.copyRates[lane]!.add(run.parts.surroundings.now(), rows)
  }
}
