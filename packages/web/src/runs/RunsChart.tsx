import type { RunAnswer } from '@tide/core/api/runs'
import { RUN_KINDS } from '@tide/core/definition/run'
import { clock, count, duration, moment } from '../format.ts'
import { KINDS, rowsPerMinute, stateSaid } from './said.ts'
import { runSeconds } from '@tide/core/definition/run'

const [ROW, LABEL, FOOT] = [26, 88, 18]
/** Of the width, in percent: what is shorter can still be hit. */
const NARROWEST = 0.35

/**
 * When what was done: a row for each kind, a bar for each run, higher where more rows a minute went. The list below says the same, and
 * is what keyboards reach.
 */
export function RunsChart({
  runs,
  now,
  chosen,
  choose,
}: {
  runs: readonly RunAnswer[]
  now: number
  chosen: string | undefined
  choose: (id: string) => void
}) {
  const kinds = RUN_KINDS.filter(kind => runs.some(run => run.kind === kind))
  const ends = runs.map(({ endedAt }) => (endedAt === null ? now : Date.parse(endedAt)))
  const from = Math.min(...runs.map(({ startedAt }) => Date.parse(startedAt)))
  const to = Math.max(...ends, from + 1)
  const share = (at: number) => ((at - from) / (to - from)) * 100
  const sameDay = new Date(from).toDateString() === new Date(to).toDateString()
  const said = sameDay ? clock : moment
  return (
    <figure className="my-3" aria-label="When what was done">
      {kinds.map(kind => {
        const most = Math.max(
          1,
          ...runs.filter(run => run.kind === kind).map(run => rowsPerMinute(run, now) ?? 0),
        )
        return (
          <div key={kind} className="flex items-end border-b border-line" style={{ height: ROW }}>
            <span className="pb-1 text-[12px] text-ink-2" style={{ width: LABEL }}>
              {KINDS[kind]}
            </span>
            <span className="relative h-full flex-1">
              {runs.map((run, i) => {
                if (run.kind !== kind) return null
                const rate = rowsPerMinute(run, now) ?? 0
                const left = share(Date.parse(run.startedAt))
                const tall = Math.max(3, Math.sqrt(rate / most) * (ROW - 4))
                const failed = run.state === 'failed' || run.state === 'cut off'
                const colour = run.id === chosen ? 'z-10 bg-ink' : failed ? 'bg-buoy' : 'bg-ink-3'
                return (
                  <span
                    key={run.id}
                    aria-hidden
                    title={`${KINDS[kind]}${run.origin === '' ? '' : ` of ${run.origin}`}, ${stateSaid(run)}, ${duration(runSeconds(run, now))}, ${count(run.rows)} rows`}
                    onClick={() => choose(run.id)}
                    className={`absolute bottom-0 cursor-pointer hover:bg-ink ${colour}`}
                    style={{
                      left: `${left}%`,
                      width: `max(3px, calc(${Math.max(NARROWEST, share(ends[i]!) - left)}% - 1px))`,
                      height: tall,
                    }}
                  />
                )
              })}
            </span>
          </div>
        )
      })}
      <figcaption
        className="flex justify-between pt-0.5 text-[11px] text-ink-2"
        style={{ height: FOOT, paddingLeft: LABEL }}
      >
        <span>{said(from)}</span>
        <span>higher: more rows a minute</span>
        <span>{said(to)}</span>
      </figcaption>
    </figure>
  )
}
