/** The tide chart: whether the target keeps up, in a picture and in words. */
import type { ReplicationStatus } from '@tide/core/api/pipelines'
import { gathersSeconds } from '@tide/core/definition/files'
import { going } from '@tide/core/pace/flow'
import type { TideSample } from '@tide/core/pace/tide'
import { useQuery } from '@tanstack/react-query'
import { Fragment, useEffect, useMemo, useRef, useState } from 'react'
import { useSearchParams } from 'react-router'
import { api } from '../../api/client.ts'
import { useLive } from '../../api/live.ts'
import { clock, count, duration, moment, plural } from '../../format.ts'
import { useTheme } from '../../frame/theme.ts'
import { Choice } from '../../parts/Choice.tsx'
import { REWIND } from '../rewind/search.ts'
import { sourcesSaid } from '../tablesSaid.ts'
import { echarts } from './chart.ts'
import { ratesOption } from './rates.ts'
import { SPANS } from './spans.ts'
import { totalsOption } from './totals.ts'

/** What was there at the same hour before. */
const BEFORE = [
  { title: 'yesterday', seconds: 86_400 },
  { title: 'a week ago', seconds: 7 * 86_400 },
]

export default function Tide({
  pipeline,
  seconds,
  setSeconds,
}: {
  pipeline: ReplicationStatus
  seconds: number
  setSeconds: (seconds: number) => void
}) {
  const [totals, setTotals] = useState(false)
  const samples = useSamples(pipeline, seconds)
  const to = useLive(live => live.now)
  useTheme(state => state.theme) // the colours are those of the theme
  const [, setSearch] = useSearchParams()
  const from = to - seconds * 1000
  const said = goingSaid(
    samples.filter(({ at }) => at >= from),
    pipeline,
  )
  const before = [
    useBefore(pipeline.id, seconds, BEFORE[0]!.seconds),
    useBefore(pipeline.id, seconds, BEFORE[1]!.seconds),
  ]
  const option = totals ? totalsOption(samples, from, to) : ratesOption(samples, from, to, before)
  // What is copied again begins to count anew.
  const copies = samples.some(({ at, copied }, i) => i > 0 && at >= from && copied > samples[i - 1]!.copied)
  return (
    <section aria-label="Tide">
      <div className="flex items-baseline gap-4 text-[13px]">
        <h2 className="text-[14px]">Tide</h2>
        <p className="flex-1 overflow-hidden text-ellipsis whitespace-nowrap text-ink-2">
          <span title={`at ${sourcesSaid(pipeline)}`}>
            <Swatch className="border-ink" /> committed
          </span>
          <span title={`in ${pipeline.toName}`}>
            <Swatch className="ml-3 border-water-3" /> landed
          </span>
          {!totals && copies && (
            <>
              <Swatch className="ml-3 border-ochre" /> rows copied
            </>
          )}
          {!totals &&
            BEFORE.map(({ title }, i) =>
              before[i]!.length > 0 ? (
                <Fragment key={title}>
                  <Swatch className={`ml-3 border-ink-3 ${i === 0 ? 'border-dashed' : 'border-dotted'}`} />{' '}
                  {title}
                </Fragment>
              ) : null,
            )}
        </p>
        <Choice
          label="Form"
          options={['a second', 'in all']}
          chosen={totals ? 1 : 0}
          choose={i => setTotals(i === 1)}
        />
        <Choice
          label="Span"
          options={SPANS.map(({ title }) => title)}
          chosen={SPANS.findIndex(span => span.seconds === seconds)}
          choose={i => setSeconds(SPANS[i]!.seconds)}
        />
      </div>
      <p className="mt-0.5 text-[13px]" role="status">
        {said}
      </p>
      <Chart option={option} said={said} choose={at => setSearch({ [REWIND]: moment(at) })} />
    </section>
  )
}

function Swatch({ className }: { className: string }) {
  return <span aria-hidden className={`mr-1 inline-block w-4 border-t-2 align-middle ${className}`} />
}

/** What the store has kept of the span, with the live readings behind it. */
function useSamples(pipeline: ReplicationStatus, seconds: number): TideSample[] {
  const { data } = useQuery({
    queryKey: ['figures', pipeline.id, seconds],
    queryFn: () => api<TideSample[]>('GET', `/pipelines/${pipeline.id}/figures?seconds=${seconds}`),
    refetchInterval: seconds > 7200 ? 60_000 : false,
    staleTime: 0,
  })
  const live = useLive(live => live.readings[pipeline.id])
  return useMemo(() => {
    const kept = data ?? []
    const last = kept.at(-1)?.at ?? 0
    return [...kept, ...(live ?? []).filter(({ at }) => at > last)]
  }, [data, live])
}

/** What was landed so many seconds before, as of the same time of now. */
function useBefore(pipeline: string, seconds: number, before: number): TideSample[] {
  const { data } = useQuery({
    queryKey: ['figures', pipeline, seconds, before],
    queryFn: () =>
      api<TideSample[]>('GET', `/pipelines/${pipeline}/figures?seconds=${seconds}&before=${before}`),
    refetchInterval: 60_000,
    staleTime: 30_000,
  })
  return useMemo(() => (data ?? []).map(one => ({ ...one, at: one.at + before * 1000 })), [data, before])
}

interface ChartProps {
  option: echarts.EChartsCoreOption
  said: string
  /** A moment was clicked. */
  choose: (at: number) => void
}

function Chart({ option, said, choose: chosen }: ChartProps) {
  const box = useRef<HTMLDivElement>(null)
  const chart = useRef<echarts.ECharts>(undefined)
  const choose = useRef(chosen)
  useEffect(() => {
    choose.current = chosen
  }, [chosen])
  useEffect(() => {
    const made = echarts.init(box.current!)
    chart.current = made
    made.getZr().on('click', ({ offsetX, offsetY }) => {
      if (!made.containPixel('grid', [offsetX, offsetY])) return
      choose.current(Number(made.convertFromPixel({ xAxisIndex: 0 }, offsetX)))
    })
    const watch = new ResizeObserver(() => made.resize())
    watch.observe(box.current!)
    return () => {
      watch.disconnect()
      made.dispose()
    }
  }, [])
  useEffect(() => {
    chart.current?.setOption(option, { notMerge: true })
  }, [option])
  return <div ref={box} className="h-[222px] w-full" role="img" aria-label={`Tide chart: ${said}`} />
}

/** Where it goes, in words. */
function goingSaid(
  samples: readonly TideSample[],
  { state, definition, lagSeconds }: ReplicationStatus,
): string {
  const last = samples.at(-1)
  if (!last) return state === 'Stopped' ? 'No readings of this time.' : 'The first readings come in.'
  if (state === 'Stopped') return `Stopped; the last reading is of ${clock(last.at)}.`
  const now = going(samples)
  if (state === 'Copying') {
    const first = samples.find(({ at }) => at >= last.at - 20_000)!
    const rate = last.at > first.at ? ((last.copied - first.copied) / (last.at - first.at)) * 1000 : 0
    return rate >= 1 ? `Copying ${count(rate)} rows a second.` : 'Copying.'
  }
  if (state === 'Paused') {
    const waiting = last.committed - last.landed
    return waiting === 0
      ? 'Paused; nothing is waiting.'
      : `Paused; ${plural(waiting, 'change is', 'changes are')} waiting.`
  }
  const waits = gathersSeconds(definition)
  const waiting = last.committed - last.landed
  if (waits > 0 && waiting > 0 && lagSeconds !== null && lagSeconds <= waits + 1)
    return `Gathering: ${plural(waiting, 'change')} so far, for up to ${duration(waits)}.`
  switch (now.going) {
    case 'unknown':
      return 'The first readings come in.'
    case 'keeping up':
      return 'Keeping up.'
    case 'falling behind':
      return `Falling behind: ${plural(now.behind, 'change')} behind, ${count(now.perSecond)} more every second.`
    case 'catching up':
      return `Catching up: ${plural(now.behind, 'change')} behind, nearing by ${count(now.perSecond)} a second, even in about ${duration(now.seconds)}.`
    case 'staying behind':
      return `Behind by ${plural(now.behind, 'change')}, and neither nearing nor falling back.`
  }
}
