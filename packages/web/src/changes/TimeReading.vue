<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { BarChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { use } from 'echarts/core'
import { routes } from '@spoor/contract'
import { actorKinds, capitalised, grouped, kindPlural } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { chartText, tone, useChart } from '../frame/chart.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { bucketWords, readerZone } from '../value/time.ts'

use([BarChart, GridComponent, LegendComponent, TooltipComponent])

/** The scope over time as a chart, by kind of actor, and the same figures as a table. */
export interface Props {
  text: string
  version: number
}
const props = defineProps<Props>()
const { data, error } = useQuery({
  queryKey: ['activity', computed(() => props.text), computed(() => props.version)],
  queryFn: () => call(routes.readActivity, { query: { scope: props.text, zone: readerZone } }),
})
const host = ref<HTMLElement | null>(null)
const kinds = computed(() => actorKinds.filter((kind) => data.value?.buckets.some((bucket) => bucket.saves[kind])))
const names = computed(() =>
  (data.value?.buckets ?? []).map((bucket) => bucketWords(bucket.from, bucket.to, data.value!.bucket, true)),
)
useChart(host, [data], () => {
  if (!data.value) return null
  const tones = {
    person: tone('--moss'),
    delegate: tone('--pine'),
    import: tone('--faint'),
    integration: tone('--line'),
    job: tone('--ink'),
    unknown: tone('--plum'),
  }
  const text = chartText()
  return {
    animation: false,
    textStyle: text,
    grid: { left: 56, right: 18, top: 58, bottom: 34 },
    legend: { top: 6, left: 8, textStyle: text, itemWidth: 12, itemHeight: 12 },
    tooltip: { trigger: 'axis', renderMode: 'richText', axisPointer: { type: 'shadow' } },
    xAxis: { type: 'category', data: names.value, axisLine: { lineStyle: { color: tone('--line') } } },
    yAxis: { type: 'value', name: 'saves', minInterval: 1, splitLine: { lineStyle: { color: tone('--line-soft') } } },
    series: kinds.value.map((kind) => ({
      name: kindPlural[kind],
      type: 'bar',
      stack: 'saves',
      itemStyle: { color: tones[kind] },
      data: data.value!.buckets.map((bucket) => bucket.saves[kind] ?? 0),
    })),
  }
})
</script>

<template>
  <div class="page">
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <slot v-else-if="data && data.buckets.length === 0" name="empty" />
    <template v-else>
      <div
        ref="host"
        class="chart"
        role="img"
        aria-label="Saves over time by kind of actor; the table below has the figures"
      />
      <details>
        <summary>The figures</summary>
        <table>
          <thead>
            <tr>
              <th>{{ data?.bucket ?? '' }}</th>
              <th v-for="kind in kinds" :key="kind" class="figure">{{ capitalised(kindPlural[kind]) }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(bucket, at) in data?.buckets ?? []" :key="bucket.from">
              <td>{{ names[at] }}</td>
              <td v-for="kind in kinds" :key="kind" class="figure mono">{{ grouped(bucket.saves[kind] ?? 0) }}</td>
            </tr>
          </tbody>
        </table>
      </details>
    </template>
  </div>
</template>

<style scoped>
.page {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
  padding: 8px 0;
}
.chart {
  height: 380px;
}
details {
  padding: 4px 18px;
  font-size: 13px;
}
summary {
  color: var(--pine);
  cursor: pointer;
}
table {
  border-collapse: collapse;
}
td,
th {
  padding: 2px 14px 2px 0;
  text-align: left;
  font-weight: 400;
}
.figure {
  text-align: right;
}
</style>
