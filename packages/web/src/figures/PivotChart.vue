<script setup lang="ts">
import { BarChart, HeatmapChart, LineChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent, VisualMapComponent } from 'echarts/components'
import { use } from 'echarts/core'
import type { PivotAnswer } from '@spoor/contract'
import { measureWords, type Measure } from '@spoor/core'
import { ref } from 'vue'
import { chartText, tone, useChart } from '../frame/chart.ts'

use([BarChart, GridComponent, HeatmapChart, LegendComponent, LineChart, TooltipComponent, VisualMapComponent])

/** A pivot as a picture; the table below it has the figures. */
export interface Props {
  shown: 'bars' | 'lines' | 'heat'
  measure: Measure
  rows: readonly string[]
  columns: readonly string[]
  answer: PivotAnswer
}
const props = defineProps<Props>()
const emit = defineEmits<{ press: [row: number | undefined, column: number | undefined] }>()
const host = ref<HTMLElement | null>(null)

const amount = (figure: string | null | undefined) =>
  figure === null || figure === undefined ? null : props.measure === 'last' ? Date.parse(figure) : Number(figure)
/** One after another, each far enough from the last to be told from it. */
const layers = ['--pine', '--moss', '--ink', '--plum', '--faint', '--moss-wash', '--soft', '--line']
/** Rows are few and are told apart by their tone; what is many stands along the axis. */
function option() {
  const { rows, columns, answer, shown } = props
  const text = chartText()
  const common = { animation: false, textStyle: text, tooltip: { renderMode: 'richText' as const, confine: true } }
  const axis = (data: readonly string[]) => ({
    type: 'category' as const,
    data: [...data],
    axisLine: { lineStyle: { color: tone('--line') } },
  })
  if (shown === 'heat' && columns.length > 0) {
    const cells = rows.flatMap((_, row) =>
      columns.map((__, column) => [column, row, amount(answer.cells[row]?.[column])] as const),
    )
    const figures = cells.flatMap(([, , figure]) => figure ?? [])
    return {
      ...common,
      grid: { left: 190, right: 24, top: 14, bottom: 70 },
      xAxis: axis(columns),
      yAxis: { ...axis(rows), inverse: true, axisLabel: { width: 170, overflow: 'truncate' as const } },
      visualMap: {
        min: Math.min(0, ...figures),
        max: Math.max(1, ...figures),
        orient: 'horizontal' as const,
        left: 190,
        bottom: 6,
        itemHeight: 160,
        textStyle: text,
        inRange: { color: [tone('--panel'), tone('--moss-wash'), tone('--moss'), tone('--pine')] },
      },
      series: [{ type: 'heatmap' as const, data: cells.filter(([, , figure]) => figure !== null) as never }],
    }
  }
  const byColumn = columns.length > 0
  return {
    ...common,
    grid: { left: 70, right: 18, top: byColumn ? 40 : 14, bottom: 40 },
    legend: byColumn
      ? { type: 'scroll' as const, top: 4, left: 4, textStyle: text, itemWidth: 12, itemHeight: 12 }
      : undefined,
    xAxis: axis(byColumn ? columns : rows),
    yAxis: {
      type: props.measure === 'last' ? ('time' as const) : ('value' as const),
      splitLine: { lineStyle: { color: tone('--line-soft') } },
    },
    series: (byColumn ? rows : [measureWords[props.measure]]).map((name, at) => ({
      name,
      type: shown === 'lines' ? ('line' as const) : ('bar' as const),
      ...(shown === 'bars' && byColumn ? { stack: 'all' } : {}),
      symbolSize: 5,
      itemStyle: { color: tone(layers[at % layers.length]!) },
      data: byColumn
        ? columns.map((_, column) => amount(answer.cells[at]?.[column]))
        : rows.map((_, row) => amount(answer.rowTotals[row])),
    })),
  }
}

useChart(host, [() => props.answer, () => props.shown], option, (chart) =>
  chart.on('click', ({ data, seriesIndex, dataIndex }) => {
    if (props.shown === 'heat' && Array.isArray(data)) emit('press', Number(data[1]), Number(data[0]))
    else if (props.columns.length > 0) emit('press', seriesIndex, dataIndex)
    else emit('press', dataIndex, undefined)
  }),
)
</script>

<template>
  <div
    ref="host"
    class="chart"
    :style="{ height: `${shown === 'heat' ? Math.max(220, 110 + rows.length * 20) : 300}px` }"
    role="img"
    :aria-label="`The ${measureWords[measure]} as a picture; the table below has the figures`"
  />
</template>
