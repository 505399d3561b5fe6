/** The tide chart with its companion, the depth strip, on one time axis. */
import type { PipelineStatus } from '@tide/core/api/pipelines'
import { tint } from '@tide/core/pace/lag'
import { commonSlope, readGaps, type TideSample } from '@tide/core/pace/tide'
import { useQuery } from '@tanstack/react-query'
import { CustomChart, LineChart } from 'echarts/charts'
import { AxisPointerComponent, GridComponent, TooltipComponent } from 'echarts/components'
import * as echarts from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { useEffect, useMemo, useRef, useState } from 'react'
import { useSearchParams } from 'react-router'
import { api } from '../api/client.ts'
import { useLive } from '../api/live.ts'
import { clock, count, duration, moment } from '../format.ts'
import { useTheme } from '../frame/theme.ts'
import { DepthStrip } from '../parts/DepthStrip.tsx'
import { REWIND } from './rewind/search.ts'
import { sourcesSaid } from './tablesSaid.ts'

echarts.use([LineChart, CustomChart, GridComponent, TooltipComponent, AxisPointerComponent, CanvasRenderer])

const SPANS = [
  { title: '5 min', seconds: 300 },
  { title: '1 h', seconds: 3600 },
  { title: '1 day', seconds: 86_400 },
  { title: '30 days', seconds: 30 * 86_400 },
]
const BARS = 100
const LEFT = 56
const RIGHT = 12

export default function Tide({ pipeline }: { pipeline: PipelineStatus }) {
  const [seconds, setSeconds] = useState(300)
  const [plain, setPlain] = useState(false)
  const samples = useSamples(pipeline, seconds)
  const end = useLive(live => live.now)
  const [, setSearch] = useSearchParams()
  return (
    <section aria-label="Tide">
      <div className="flex items-baseline gap-4 text-[13px]">
        <h2 className="text-[14px]">Tide</h2>
        <p className="flex-1 overflow-hidden text-ellipsis whitespace-nowrap text-ink-2">
          <Swatch className="border-ink" /> committed at {sourcesSaid(pipeline)}
          <Swatch className="ml-3 border-water-3" /> landed in {pipeline.toName}
        </p>
        <Choice
          label="Form"
          options={['against steady rate', 'totals']}
          chosen={plain ? 1 : 0}
          choose={i => setPlain(i === 1)}
        />
        <Choice
          label="Span"
          options={SPANS.map(({ title }) => title)}
          chosen={SPANS.findIndex(span => span.seconds === seconds)}
          choose={i => setSeconds(SPANS[i]!.seconds)}
        />
      </div>
      <Chart
        samples={samples}
        from={end - seconds * 1000}
        to={end}
        plain={plain}
        choose={at => setSearch({ [REWIND]: moment(at) })}
        fromName={sourcesSaid(pipeline)}
        toName={pipeline.toName}
      />
      <div style={{ paddingLeft: LEFT, paddingRight: RIGHT }}>
        <DepthStrip lags={bars(samples, end, seconds)} label="Lag over the same time" />
      </div>
    </section>
  )
}

function Swatch({ className }: { className: string }) {
  return <span aria-hidden className={`mr-1 inline-block w-4 border-t-2 align-middle ${className}`} />
}

function Choice({
  label,
  options,
  chosen,
  choose,
}: {
  label: string
  options: string[]
  chosen: number
  choose: (i: number) => void
}) {
  return (
    <div role="group" aria-label={label} className="flex gap-2.5">
      {options.map((option, i) => (
        <button
          key={option}
          type="button"
          aria-pressed={i === chosen}
          onClick={() => choose(i)}
          className={i === chosen ? 'font-semibold' : 'text-ink-2 hover:text-ink'}
        >
          {option}
        </button>
      ))}
    </div>
  )
}

/** What the store has kept of the span, with the live readings behind it. */
function useSamples(pipeline: PipelineStatus, seconds: number): TideSample[] {
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

function bars(samples: readonly TideSample[], end: number, seconds: number): (number | null)[] {
  const lags = new Array<number | null>(BARS).fill(null)
  const begin = end - seconds * 1000
  for (const { at, lag } of samples) {
    const i = Math.floor(((at - begin) / (seconds * 1000)) * BARS)
    if (lag !== null && i >= 0 && i < BARS) lags[i] = Math.max(lags[i] ?? 0, lag)
  }
  return lags
}

interface ChartProps {
  samples: readonly TideSample[]
  from: number
  to: number
  plain: boolean
  /** A moment was clicked. */
  choose: (at: number) => void
  fromName: string
  toName: string
}

function Chart(props: ChartProps) {
  const box = useRef<HTMLDivElement>(null)
  const chart = useRef<echarts.ECharts>(undefined)
  const theme = useTheme(state => state.theme)
  const choose = useRef(props.choose)
  useEffect(() => {
    choose.current = props.choose
  }, [props.choose])
  useEffect(() => {
    const made = echarts.init(box.current!)
    chart.current = made
    made.getZr().on('click', ({ offsetX, offsetY }) => {
      if (!made.containPixel('grid', [offsetX, offsetY])) return
      const at = made.convertFromPixel({ xAxisIndex: 0 }, offsetX)
      choose.current(Number(at))
    })
    const watch = new ResizeObserver(() => made.resize())
    watch.observe(box.current!)
    return () => {
      watch.disconnect()
      made.dispose()
    }
  }, [])
  useEffect(() => {
    chart.current?.setOption(option(props), { replaceMerge: ['series'] })
  }, [props, theme])
  const last = props.samples.at(-1)
  const said = last
    ? `${count(last.committed - last.landed)} changes behind at ${clock(last.at)}`
    : 'no readings yet'
  return (
    <div className="relative">
      <div ref={box} className="h-[190px] w-full" role="img" aria-label={`Tide chart: ${said}`} />
      {props.samples.length < 2 && (
        <p className="absolute inset-x-0 top-20 text-center text-[13px] text-ink-2">
          The first readings come in.
        </p>
      )}
    </div>
  )
}

const token = (name: string) =>
  getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim()

interface Range {
  min: number
  max: number
}

/** A gap in the readings of more than this breaks the lines. */
const BREAK_MS = 150_000

function option({ samples, from, to, plain }: ChartProps): echarts.EChartsCoreOption {
  const inside = samples.filter(({ at }) => at >= from && at <= to)
  const slope = plain ? 0 : commonSlope(inside)
  const base = plain ? 0 : (inside[0]?.landed ?? 0)
  const origin = inside[0]?.at ?? from
  const level = (at: number, total: number) => total - base - (slope * (at - origin)) / 1000
  const room = Math.ceil(Math.max(5, slope * 30))
  const committed = inside.map(({ at, committed }) => [at, level(at, committed)])
  const landed = inside.map(({ at, landed }) => [at, level(at, landed)])
  const tints = ['water-1', 'water-1', 'water-2', 'water-3', 'water-4'].map(token)
  const [ink, ink2, line, paper] = ['ink', 'ink-2', 'line', 'paper-3'].map(token)
  const band = inside.slice(1).flatMap((sample, i) => {
    const before = inside[i]!
    if (
      sample.at - before.at > BREAK_MS ||
      (sample.committed <= sample.landed && before.committed <= before.landed)
    )
      return []
    return [
      [
        before.at,
        sample.at,
        committed[i]![1],
        committed[i + 1]![1],
        landed[i]![1],
        landed[i + 1]![1],
        tint(Math.max(sample.lag ?? 0, before.lag ?? 0)),
      ],
    ]
  })
  const line1 = (data: (number | undefined)[][], color: string, width: number) => ({
    type: 'line',
    data,
    showSymbol: false,
    silent: true,
    lineStyle: { color, width },
    z: 3,
    animation: false,
  })
  return {
    animation: false,
    textStyle: { fontFamily: 'Hanken Grotesk Variable' },
    grid: { left: LEFT, right: RIGHT, top: 10, bottom: 24 },
    xAxis: {
      type: 'time',
      min: from,
      max: to,
      axisLine: { lineStyle: { color: line } },
      axisTick: { show: false },
      axisLabel: { color: ink2, fontSize: 11, hideOverlap: true },
      splitLine: { show: false },
      axisPointer: {
        show: true,
        type: 'line',
        lineStyle: { color: ink2, type: 'dashed' },
        label: { show: false },
      },
    },
    yAxis: {
      type: 'value',
      scale: true,
      // A minute's worth of changes at least: in a calm pipeline chance should not look like drama.
      ...(plain
        ? {}
        : {
            min: (range: Range) => Math.min(range.min, -room),
            max: (range: Range) => Math.max(range.max, room),
          }),
      minInterval: 1,
      splitNumber: 4,
      axisLabel: {
        color: ink2,
        fontSize: 11,
        showMinLabel: plain,
        showMaxLabel: plain,
        formatter: (value: number) => (plain || value <= 0 ? '' : '+') + value.toLocaleString('en'),
      },
      splitLine: { lineStyle: { color: line } },
    },
    tooltip: {
      trigger: 'axis',
      backgroundColor: paper,
      borderColor: line,
      borderRadius: 3,
      padding: [4, 8],
      textStyle: { color: ink, fontSize: 12, fontFamily: 'Hanken Grotesk Variable' },
      formatter: (points: unknown) => {
        const at = (points as { value: [number] }[])[0]?.value[0]
        const index = inside.findIndex(sample => sample.at === at)
        return index < 0 ? '' : gapText(inside, index)
      },
    },
    series: [
      {
        type: 'custom',
        silent: true,
        animation: false,
        z: 2,
        data: band,
        encode: { x: [0, 1], y: [2, 3, 4, 5] },
        tooltip: { show: false },
        renderItem: (_: unknown, its: { value(i: number): number; coord(point: number[]): number[] }) => {
          const [x1, x2, c1, c2, l1, l2, depth] = [0, 1, 2, 3, 4, 5, 6].map(i => its.value(i)) as [
            number,
            number,
            number,
            number,
            number,
            number,
            number,
          ]
          const points = [
            [x1, c1],
            [x2, c2],
            [x2, l2],
            [x1, l1],
          ].map(point => its.coord(point))
          return {
            type: 'polygon',
            shape: { points },
            style: { fill: tints[depth], stroke: tints[depth], lineWidth: 1 },
          }
        },
      },
      line1(landed, token('water-3'), 2.5),
      line1(committed, ink!, 1.25),
    ],
  }
}

function gapText(samples: readonly TideSample[], index: number): string {
  const { changes, seconds } = readGaps(samples, index)
  const { at, lag } = samples[index]!
  const behind =
    changes === 0
      ? lag === null || lag === 0
        ? 'caught up'
        : `caught up; changes took ${duration(lag)}`
      : `<b>${count(changes)} changes</b>, ${seconds === null ? 'for longer than shown' : `${duration(seconds)} behind`}`
  return `${behind}<br>at ${clock(at)} · click to go back to then`
}
