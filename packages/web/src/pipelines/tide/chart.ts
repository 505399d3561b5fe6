/** What both forms of the tide chart have in common. */
import { CustomChart, LineChart } from 'echarts/charts'
import { AxisPointerComponent, GridComponent, TooltipComponent } from 'echarts/components'
import * as echarts from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'

echarts.use([LineChart, CustomChart, GridComponent, TooltipComponent, AxisPointerComponent, CanvasRenderer])

export { echarts }

export const LEFT = 64
export const RIGHT = 12

export const token = (name: string) =>
  getComputedStyle(document.documentElement).getPropertyValue(`--color-${name}`).trim()

/** By `tint`: deeper is further behind. */
export const tints = () => ['water-1', 'water-1', 'water-2', 'water-3', 'water-4'].map(token)

export const FONT = 'Hanken Grotesk Variable'

export function timeAxis(from: number, to: number, labels: boolean): object {
  const [ink2, line] = [token('ink-2'), token('line')]
  return {
    type: 'time',
    min: from,
    max: to,
    axisLine: { lineStyle: { color: line } },
    axisTick: { show: false },
    axisLabel: { show: labels, color: ink2, fontSize: 11, hideOverlap: true },
    splitLine: { show: false },
    axisPointer: {
      show: true,
      type: 'line',
      lineStyle: { color: ink2, type: 'dashed' },
      label: { show: false },
    },
  }
}

export function tooltip(formatter: (at: number) => string): object {
  return {
    trigger: 'axis',
    backgroundColor: token('paper-3'),
    borderColor: token('line'),
    borderRadius: 3,
    padding: [4, 8],
    textStyle: { color: token('ink'), fontSize: 12, fontFamily: FONT },
    formatter: (points: unknown) => {
      const at = (points as { value: [number] }[])[0]?.value[0]
      return at === undefined ? '' : formatter(at)
    },
  }
}

export function line(data: (number | null)[][], color: string, width: number, axis = 0): object {
  return {
    type: 'line',
    xAxisIndex: axis,
    yAxisIndex: axis,
    data,
    showSymbol: false,
    silent: true,
    lineStyle: { color, width },
    z: 3,
    animation: false,
  }
}
