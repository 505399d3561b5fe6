/** The tide as two cumulative lines: the vertical gap is the backlog, the horizontal one the lag. */
import type { EChartsCoreOption } from 'echarts/core'
import { tint } from '@tide/core/pace/lag'
import { readGaps, type TideSample } from '@tide/core/pace/tide'
import { clock, count, duration } from '../../format.ts'
import { FONT, LEFT, line, RIGHT, timeAxis, tints, token, tooltip } from './chart.ts'

/** A gap in the readings of more than this breaks the lines. */
const BREAK_MS = 150_000

export function totalsOption(samples: readonly TideSample[], from: number, to: number): EChartsCoreOption {
  const inside = samples.filter(({ at }) => at >= from && at <= to)
  const committed = inside.map(({ at, committed }) => [at, committed])
  const landed = inside.map(({ at, landed }) => [at, landed])
  const colours = tints()
  const [ink, ink2, rule] = ['ink', 'ink-2', 'line'].map(token)
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
  return {
    animation: false,
    textStyle: { fontFamily: FONT },
    grid: { left: LEFT, right: RIGHT, top: 10, bottom: 24 },
    xAxis: timeAxis(from, to, true),
    yAxis: {
      type: 'value',
      scale: true,
      minInterval: 1,
      splitNumber: 4,
      axisLabel: {
        color: ink2,
        fontSize: 11,
        formatter: (value: number) => value.toLocaleString('en'),
      },
      splitLine: { lineStyle: { color: rule } },
    },
    tooltip: tooltip(at => {
      const index = inside.findIndex(sample => sample.at === at)
      return index < 0 ? '' : gapText(inside, index)
    }),
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
            style: { fill: colours[depth], stroke: colours[depth], lineWidth: 1 },
          }
        },
      },
      line(landed, token('water-3'), 2.5),
      line(committed, ink!, 1.25),
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
