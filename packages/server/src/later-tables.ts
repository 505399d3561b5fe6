/** Tables that appear at a source after a pipeline's start, and that its patterns take in: taken in, or reported. */
import { chosenTables } from '@tide/core/definition/choose'
import type { ReplicationRecord } from '@tide/core/definition/pipeline'
import { hinders, someOf } from '@tide/core/plan/note'
import { datasetId, printName, type DatasetName } from '@tide/core/records/dataset'
import { planForMore } from './plan.ts'
import { sourceTables } from './source-tables.ts'
import type { Services } from './services.ts'

/** Reading a catalogue costs the source something; a table that has just been made is seldom in a hurry. */
const LOOK_EVERY_MS = 5 * 60_000

export class LaterTables {
  private readonly services: Services
  private readonly timer: NodeJS.Timeout
  /** What has been reported, by pipeline: nothing is said twice while it stands. */
  private readonly told = new Map<string, string>()
  private looking: Promise<void> = Promise.resolve()

  constructor(services: Services) {
    this.services = services
    this.timer = setInterval(() => void this.look(), LOOK_EVERY_MS)
  }

  /** Looks once for each pipeline that runs here and has patterns; what goes wrong is told in its log. */
  look(): Promise<void> {
    this.looking = this.looking.then(async () => {
      for (const record of await this.services.store.pipelines.list()) {
        const { id, state, definition } = record
        if (definition.shape !== 'replicate') continue
        if (state !== 'Following' || !definition.patterns?.length || !this.services.engine.runs(record))
          continue
        await this.lookFor({ ...record, definition }).catch((error: Error) =>
          this.tell(id, `New tables could not be looked for: ${error.message}`),
        )
      }
    })
    return this.looking
  }

  async close(): Promise<void> {
    clearInterval(this.timer)
    await this.looking
  }

  private async lookFor(record: ReplicationRecord): Promise<void> {
    const { id, definition, lanes } = record
    const datasets = await sourceTables(this.services, definition, true)
    const present = new Set(lanes.map(({ source }) => datasetId(source)))
    const there = new Set(datasets.map(datasetId))
    const more = chosenTables(definition, datasets).filter(
      table => !present.has(datasetId(table)) && there.has(datasetId(table)),
    )
    if (more.length === 0) return void this.told.delete(id)
    const names = someOf(more.map(printName))
    if (definition.later !== 'take in') {
      const are = more.length === 1 ? 'is new at the source and' : 'are new at the source and'
      return this.tell(
        id,
        `${names} ${are} not followed, though the patterns take ${more.length === 1 ? 'it' : 'them'} in.`,
        'Add what is wanted in the setup.',
      )
    }
    await this.takeIn(record, more)
  }

  /** Those that can be; of the others it is told why. */
  private async takeIn(record: ReplicationRecord, more: readonly DatasetName[]): Promise<void> {
    const { engine } = this.services
    await engine.inTurn(record.id, async () => {
      const plan = await planForMore(this.services, record, more, true)
      const refused = new Set(plan.notes.filter(hinders).flatMap(({ tables = [] }) => tables.map(datasetId)))
      const able = more.filter(table => !refused.has(datasetId(table)))
      const [refusal] = plan.notes.filter(hinders)
      if (refusal)
        await this.tell(record.id, `Not all new tables are taken in: ${refusal.message}`, refusal.remedy)
      else this.told.delete(record.id)
      if (able.length === 0) return
      const possible = await planForMore(this.services, record, able, false)
      if (possible.notes.some(hinders)) return
      await engine.extend(record.id, possible)
    })
  }

  private async tell(pipeline: string, message: string, remedy: string | null = null): Promise<void> {
    if (this.told.get(pipeline) === message) return
    this.told.set(pipeline, message)
    await this.services.store.history.log({ level: 'warning', pipeline, message, remedy })
  }
}
