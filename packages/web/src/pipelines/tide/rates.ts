/** The tide as rates: two lines of changes a second, and below the waterline how much is behind, deeper and darker. */
import type { EChartsCoreOption } from 'echarts/core'
import { flowBins, type FlowBin } from '@tide/core/pace/flow'
import { tint } from '@tide/core/pace/lag'
import type { TideSample } from '@tide/core/pace/tide'
import { clock, count, duration, plural } from '../../format.ts'
import { FONT, LEFT, line, RIGHT, timeAxis, tints, token, tooltip } from './chart.ts'

const BINS = 150
/** Yesterday, and a week ago. */
const DASHES = ['dashed', 'dotted']
const [RATES_TOP, RATES_HEIGHT, DEPTH_TOP, DEPTH_HEIGHT] = [12, 116, 132, 62]
/** The depth's scale goes at least this far down. */
const LEAST_DEPTH = 1_000

/** `before`: readings of the same hours earlier, moved to now. */
export function ratesOption(
  samples: readonly TideSample[],
  from: number,
  to: number,
  before: readonly (readonly TideSample[])[],
): EChartsCoreOption {
  const bins = flowBins(samples, from, to, BINS)
  // Earlier readings are a minute apart.
  const earlierBins = Math.max(2, Math.min(BINS, Math.floor((to - from) / 60_000)))
  const earlier = before.flatMap((readings, i) => {
    if (readings.length === 0) return []
    const points = flowBins(readings, from, to, earlierBins).map(({ at, landed }) => [at, landed])
    return [
      {
        ...line(points, token('ink-3'), 1),
        lineStyle: { color: token('ink-3'), width: 1, type: DASHES[i] },
        z: 1,
      },
    ]
  })
  const copies = bins.some(bin => (bin.copied ?? 0) > 0)
  const right = copies ? LEFT : RIGHT
  const [ink, ink2, rule] = ['ink', 'ink-2', 'line'].map(token) as [string, string, string]
  const colours = tints()
  const deepest = Math.max(LEAST_DEPTH, ...bins.map(({ behind }) => behind ?? 0))
  const floor = Math.ceil(Math.log10(deepest + 1))
  const width = (to - from) / BINS
  const of = (value: (bin: FlowBin) => number | null) => bins.map(bin => [bin.at, value(bin)])
  return {
    animation: false,
    textStyle: { fontFamily: FONT },
    grid: [
      { left: LEFT, right, top: RATES_TOP, height: RATES_HEIGHT },
      { left: LEFT, right, top: DEPTH_TOP, height: DEPTH_HEIGHT },
    ],
    axisPointer: { link: [{ xAxisIndex: 'all' }] },
    xAxis: [
      { ...timeAxis(from, to, false), gridIndex: 0, axisLine: { show: false } },
      { ...timeAxis(from, to, true), gridIndex: 1, axisLine: { show: false } },
    ],
    yAxis: [
      {
        gridIndex: 0,
        type: 'value',
        min: 0,
        minInterval: 1,
        splitNumber: 3,
        axisLabel: {
          color: ink2,
          fontSize: 11,
          formatter: (value: number) => (value === 0 ? '' : `${value.toLocaleString('en')}/s`),
        },
        splitLine: { lineStyle: { color: rule } },
      },
      {
        gridIndex: 1,
        type: 'value',
        inverse: true,
        min: 0,
        max: floor,
        interval: 1,
        axisLabel: {
          color: ink2,
          fontSize: 11,
          formatter: (power: number) =>
            power === 0
              ? 'behind'
              : power % Math.ceil(floor / 3) === 0
                ? (10 ** power).toLocaleString('en')
                : '',
        },
        splitLine: { show: false },
      },
      // A copy brings many times more rows than changes come.
      ...(copies
        ? [
            {
              gridIndex: 0,
              type: 'value',
              position: 'right',
              min: 0,
              splitNumber: 3,
              axisLabel: {
                color: token('ochre'),
                fontSize: 11,
                formatter: (value: number) => (value === 0 ? '' : `${value.toLocaleString('en')}/s`),
              },
              splitLine: { show: false },
            },
          ]
        : []),
    ],
    tooltip: tooltip(at => said(bins.find(bin => bin.at === at))),
    series: [
      ...earlier,
      ...(copies
        ? [
            {
              ...line(
                of(({ copied }) => copied),
                token('ochre'),
                1.75,
              ),
              yAxisIndex: 2,
            },
          ]
        : []),
      line(
        of(({ landed }) => landed),
        token('water-3'),
        2.25,
      ),
      line(
        of(({ committed }) => committed),
        ink,
        1.1,
      ),
      {
        type: 'custom',
        xAxisIndex: 1,
        yAxisIndex: 1,
        silent: true,
        animation: false,
        z: 2,
        data: bins.map(({ at, behind, lag }) => [at, Math.log10((behind ?? 0) + 1), tint(lag ?? 0)]),
        encode: { x: 0, y: 1 },
        renderItem: (_: unknown, its: { value(i: number): number; coord(point: number[]): number[] }) => {
          const [at, depth, shade] = [0, 1, 2].map(i => its.value(i)) as [number, number, number]
          const [left, top] = its.coord([at - width / 2, 0]) as [number, number]
          const [right, bottom] = its.coord([at + width / 2, depth]) as [number, number]
          return {
            type: 'rect',
            shape: { x: left, y: top, width: right - left, height: bottom - top },
            style: { fill: colours[shade] },
          }
        },
      },
      // The waterline.
      {
        ...line(
          [
            [from, 0],
            [to, 0],
          ],
          ink,
          1,
          1,
        ),
        tooltip: { show: false },
      },
    ],
  }
}

function said(bin: FlowBin | undefined): string {
  if (!bin || bin.committed === null) return 'no readings here'
  const { at, committed, landed, copied, behind, lag } = bin
  const depth =
    behind === null || behind === 0
      ? 'nothing waiting'
      : `<b>${plural(behind, 'change')}</b> behind${lag === null ? '' : `, ${duration(lag)}`}`
  return `${rate(committed)} committed, ${rate(landed!)} landed${copied ? `, ${rate(copied)} rows copied` : ''}<br>${depth}<br>at ${clock(at)} · click to go back to then`
}

const rate = (perSecond: number) =>
  `${perSecond < 10 ? perSecond.toFixed(1).replace(/\.0$/, '') : count(perSecond)}/s`
