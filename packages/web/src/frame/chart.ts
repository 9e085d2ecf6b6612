import { useResizeObserver } from '@vueuse/core'
import * as echarts from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { onBeforeUnmount, watch, type Ref, type WatchSource } from 'vue'

echarts.use([CanvasRenderer])

/** A colour of the theme, which a chart cannot read from the style sheet itself. */
export const tone = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim()

export const chartText = () => ({ color: tone('--soft'), fontFamily: 'Atkinson Hyperlegible Next Variable' })

/**
 * Draws a chart in an element, anew whenever what it is drawn from changes, and as large as the element.
 * @param option null while there is nothing to draw
 * @param begun when the chart is made
 */
export function useChart(
  host: Ref<HTMLElement | null>,
  from: WatchSource[],
  option: () => echarts.EChartsCoreOption | null,
  begun: (chart: echarts.ECharts) => void = () => undefined,
): void {
  let chart: echarts.ECharts | undefined
  watch([...from, host], () => {
    const drawn = host.value && option()
    if (!drawn) return
    if (!chart) {
      chart = echarts.init(host.value, null, { renderer: 'canvas' })
      begun(chart)
    }
    chart.setOption(drawn, true)
  })
  useResizeObserver(host, () => chart?.resize())
  onBeforeUnmount(() => chart?.dispose())
}
