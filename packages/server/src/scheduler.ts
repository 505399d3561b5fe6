/** Does with pipelines at set times what their people have asked for, and goes on with it after a restart. */
import type { Doing, KeptSchedule } from '@tide/core/definition/schedule'
import { canonicalJson } from '@tide/core/definition/canonical-json'
import { asFailure } from '@tide/core/failure'
import { lastTime } from '@tide/core/schedule/times'
import { begin, goOn, landedOf, missing } from './scheduled-deeds.ts'
import type { Services } from './services.ts'

const LOOK_MS = 1_000
/** What is later than this was missed: nobody was there. */
const LATE_MS = 60_000

export class Scheduler {
  private readonly services: Services
  private readonly now: () => number
  private readonly timer: NodeJS.Timeout
  private looking: Promise<void> | undefined

  constructor(services: Services, now: () => number = Date.now) {
    this.services = services
    this.now = now
    this.timer = setInterval(() => void this.look(), LOOK_MS)
  }

  /** Looks for what there is to do now. Where the store is away, the next look finds it. */
  look(): Promise<void> {
    this.looking ??= this.all()
      .catch(() => {})
      .finally(() => (this.looking = undefined))
    return this.looking
  }

  async close(): Promise<void> {
    clearInterval(this.timer)
    await this.looking
  }

  private async all(): Promise<void> {
    const { store, engine } = this.services
    const live = new Set((await engine.engines()).flatMap(({ id, live }) => (live ? [id] : [])))
    for (const schedule of await store.schedules.list()) {
      const by = schedule.doing?.by ?? engine.id
      if (by !== engine.id && live.has(by)) continue
      await this.one(schedule).catch((thrown: unknown) => {
        const failure = asFailure(thrown)
        // What passes is tried again with the next look, until the next set time.
        if (failure.kind !== 'transient') return this.end(schedule, false, failure)
      })
    }
  }

  private async one(schedule: KeptSchedule): Promise<void> {
    const { schedules } = this.services.store
    const due = schedule.enabled
      ? lastTime(schedule, Date.parse(schedule.lastTick ?? schedule.createdAt), this.now())
      : undefined
    const { doing } = schedule
    if (due === undefined) return doing ? this.goOn(schedule, doing) : undefined
    if (doing) {
      // The next time has come before the one before was over.
      if (doing.phase === 'begun') return this.goOn(schedule, doing)
      const why = (await missing(this.services, schedule, doing)) ?? 'It could not be begun'
      const message = `${why} until the next set time had come.`
      await this.end(schedule, false, { message, remedy: 'Look at how the pipelines stand.' })
    }
    const late = this.now() - Date.parse(due) > LATE_MS
    if (late && schedule.missed === 'leave') {
      if (!(await schedules.take(schedule.id, due, null))) return
      return this.end(schedule, false, {
        message: `The time of ${due} was missed, and is left out.`,
        remedy: '',
      })
    }
    const begun: Doing = { tick: due, phase: 'waiting', by: this.services.engine.id }
    const landed = schedule.only === 'landed' ? await landedOf(this.services, schedule) : undefined
    if (landed && canonicalJson(landed) === canonicalJson(schedule.landed)) {
      await schedules.take(schedule.id, due, null)
      return
    }
    if (await schedules.take(schedule.id, due, begun, landed)) await this.goOn(schedule, begun)
  }

  private async goOn(schedule: KeptSchedule, doing: Doing): Promise<void> {
    const { services } = this
    let now = doing
    if (now.phase === 'waiting') {
      if ((await missing(services, schedule, now)) !== undefined) return
      now = await begin(services, schedule, { ...now, phase: 'begun' })
      await services.store.schedules.going(schedule.id, now)
    }
    const outcome = await goOn(services, schedule, now)
    if (outcome) await this.end(schedule, outcome.well, { message: outcome.said, remedy: '' })
  }

  private async end(
    { id, pipeline, deed }: KeptSchedule,
    well: boolean,
    { message, remedy }: { message: string; remedy: string },
  ): Promise<void> {
    const { schedules, history } = this.services.store
    const said = remedy === '' ? message : `${message} ${remedy}`
    await schedules.end(id, { at: new Date(this.now()).toISOString(), well, said })
    await history.log({
      level: well ? 'info' : 'warning',
      pipeline,
      message: `By schedule, ${deed}: ${message}`,
      remedy: remedy === '' ? null : remedy,
    })
  }
}
