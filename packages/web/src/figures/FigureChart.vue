<script setup lang="ts">
import { LineChart } from 'echarts/charts'
import {
  GridComponent,
  MarkAreaComponent,
  MarkLineComponent,
  MarkPointComponent,
  TooltipComponent,
} from 'echarts/components'
import { use } from 'echarts/core'
import type { FigureAnswer } from '@spoor/contract'
import { amountText, dateText } from '@spoor/core'
import { ref } from 'vue'
import { dayOf } from '../value/time.ts'
import { chartText, tone, useChart } from '../frame/chart.ts'

use([GridComponent, LineChart, MarkAreaComponent, MarkLineComponent, MarkPointComponent, TooltipComponent])

/** A figure over time, with what moved it most, and the two days between which it is split. */
export interface Props {
  points: readonly { day: string; figure: string | null }[]
  marks: FigureAnswer['marks']
  names: readonly string[]
  a: string | null
  b: string | null
}
const props = defineProps<Props>()
const emit = defineEmits<{ pick: [day: string] }>()
const host = ref<HTMLElement | null>(null)

/** The step that a day lies in. */
const stepOf = (day: string) => props.points.find((point) => point.day >= day) ?? props.points.at(-1)!

useChart(
  host,
  [() => props.points, () => props.a, () => props.b],
  () => {
    if (props.points.length === 0) return null
    const text = chartText()
    const line = (day: string, name: string) => ({
      xAxis: stepOf(day).day,
      label: { formatter: name, color: tone('--pine'), fontWeight: 'bold' as const },
    })
    return {
      animation: false,
      textStyle: text,
      grid: { left: 84, right: 20, top: 46, bottom: 34 },
      tooltip: {
        trigger: 'axis',
        renderMode: 'richText',
        valueFormatter: (value: unknown) =>
          value === null || value === undefined ? 'not known' : amountText(String(value)),
      },
      xAxis: {
        type: 'category',
        data: props.points.map(({ day }) => day),
        axisLabel: { formatter: (day: string) => dateText(day).replace(/([A-Z][a-z]{2})[a-z]*/, '$1') },
        axisLine: { lineStyle: { color: tone('--line') } },
      },
      yAxis: {
        type: 'value',
        scale: true,
        axisLabel: { formatter: (value: number) => amountText(String(value)) },
        splitLine: { lineStyle: { color: tone('--line-soft') } },
      },
      series: [
        {
          type: 'line',
          step: 'end',
          // A line of one point is none.
          showSymbol: props.points.length === 1,
          lineStyle: { color: tone('--pine'), width: 2 },
          itemStyle: { color: tone('--pine') },
          data: props.points.map(({ figure }) => (figure === null ? null : Number(figure))),
          markLine: {
            symbol: 'none',
            silent: true,
            lineStyle: { color: tone('--pine'), type: 'solid' },
            data: [
              ...(props.a === null ? [] : [line(props.a, 'A')]),
              ...(props.b === null ? [] : [line(props.b, 'B')]),
            ],
          },
          markArea: {
            silent: true,
            itemStyle: { color: tone('--pine-wash'), opacity: 0.5 },
            data:
              props.a === null || props.b === null
                ? []
                : [[{ xAxis: stepOf(props.a).day }, { xAxis: stepOf(props.b).day }]],
          },
          markPoint: {
            symbol: 'circle',
            symbolSize: 8,
            itemStyle: { color: tone('--ink') },
            label: { show: false },
            data: props.marks.map((mark, at) => {
              const { day, figure } = stepOf(dayOf(mark.at))
              return { name: props.names[at]!, coord: [day, Number(figure ?? 0)] }
            }),
          },
        },
      ],
    }
  },
  (chart) =>
    chart.getZr().on('click', ({ offsetX, offsetY }) => {
      if (!chart.containPixel('grid', [offsetX, offsetY])) return
      const [at] = chart.convertFromPixel('grid', [offsetX, offsetY]) as [number, number]
      const point = props.points[Math.max(0, Math.min(props.points.length - 1, Math.round(at)))]
      if (point) emit('pick', point.day)
    }),
)
</script>

<template>
  <div ref="host" class="chart" role="img" aria-label="The figure over time; the table below has it in numbers" />
</template>

<style scoped>
.chart {
  height: 330px;
}
</style>
