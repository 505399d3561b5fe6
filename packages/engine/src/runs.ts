/** What a pipeline does, from beginning to end, put down while it is done, so that a kill costs the figures of a few seconds. */
import {
  beginRun,
  withBatch,
  type LaneBatch,
  type RunKind,
  type RunLane,
  type RunRecord,
  type RunState,
} from '@tide/core/definition/run'
import { messageOf } from '@tide/core/failure'
import type { RunRepository, Surroundings } from './repositories.ts'

const TELL_MS = 5_000

type Parts = {
  runs: Pick<RunRepository, 'put'>
  surroundings: Pick<Surroundings, 'now' | 'newId'>
}

export class Runs {
  private readonly parts: Parts
  private readonly whose: Pick<RunRecord, 'pipeline' | 'from' | 'to'>
  private readonly open = new Map<RunKind, RunRecord>()
  /** Those whose figures are newer than what was put down. */
  private readonly untold = new Set<RunKind>()
  /** When figures were put down last; a run that has begun does not wait. */
  private told = 0
  /** Of each kind the newest, going or ended. */
  readonly newest = new Map<RunKind, RunRecord>()

  constructor(parts: Parts, whose: Pick<RunRecord, 'pipeline' | 'from' | 'to'>) {
    this.parts = parts
    this.whose = whose
  }

  /** From here on this is done; where it was done already, it goes on. */
  going(kind: RunKind): void {
    if (this.open.has(kind)) return
    const { newId } = this.parts.surroundings
    this.change(kind, beginRun({ id: newId(), kind, ...this.whose }, this.at))
    this.told = 0
  }

  /** A batch of a lane has landed. */
  batch(kind: RunKind, table: string, mode: RunLane['mode'], batch: LaneBatch): void {
    const run = this.open.get(kind)
    if (run) this.change(kind, withBatch(run, table, mode, batch, this.at))
  }

  count(kind: RunKind, more: Partial<Pick<RunRecord, 'rows' | 'reads' | 'writes' | 'held'>>): void {
    const run = this.open.get(kind)
    if (!run) return
    const { rows = 0, reads = 0, writes = 0, held = 0 } = more
    this.change(kind, {
      ...run,
      rows: run.rows + rows,
      reads: run.reads + reads,
      writes: run.writes + writes,
      held: run.held + held,
    })
  }

  /** Whatever is done is tried again. */
  retried(): void {
    for (const [kind, run] of this.open) this.change(kind, { ...run, retries: run.retries + 1 })
  }

  async end(kind: RunKind, state: RunState, note: string | null = null): Promise<void> {
    const run = this.open.get(kind)
    if (!run) return
    this.open.delete(kind)
    this.untold.delete(kind)
    const ended = { ...run, state, note, endedAt: this.at }
    this.newest.set(kind, ended)
    await this.put(ended)
  }

  /** One that is done at once; what `work` says is its note, and so is why it failed. */
  async during(kind: RunKind, work: () => Promise<string>): Promise<string> {
    this.going(kind)
    try {
      const said = await work()
      await this.end(kind, 'done', said)
      return said
    } catch (thrown) {
      await this.end(kind, 'failed', messageOf(thrown))
      throw thrown
    }
  }

  async endAll(state: RunState, note: string | null = null): Promise<void> {
    for (const kind of [...this.open.keys()]) await this.end(kind, state, note)
  }

  /** Puts figures down now and then. Following is one run a day, by UTC. */
  async tell(): Promise<void> {
    const now = this.parts.surroundings.now()
    if (now - this.told < TELL_MS) return
    this.told = now
    const following = this.open.get('follow')
    if (following && following.startedAt.slice(0, 10) !== this.at.slice(0, 10)) {
      await this.end('follow', 'ended', 'The day ended; the next run goes on.')
      this.going('follow')
    }
    for (const kind of [...this.untold]) {
      this.untold.delete(kind)
      await this.put(this.open.get(kind)!)
    }
  }

  private change(kind: RunKind, run: RunRecord): void {
    this.open.set(kind, run)
    this.newest.set(kind, run)
    this.untold.add(kind)
  }

  private get at(): string {
    return new Date(this.parts.surroundings.now()).toISOString()
  }

  /** Runs are for people: when they cannot be put down, the pipeline goes on. */
  private async put(run: RunRecord): Promise<void> {
    await this.parts.runs.put(run).catch(() => {})
  }
}
