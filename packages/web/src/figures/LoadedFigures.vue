<script setup lang="ts">
import type { FigureAnswer } from '@spoor/contract'
import { amountText, beforeAndAfter, counted, dateText, readFigures, type LoadedFigure } from '@spoor/core'
import { computed, ref } from 'vue'
import { dayOf } from '../value/time.ts'
import ChoicePart from '../scope/ChoicePart.vue'
import FigureChart from './FigureChart.vue'

/** Figures that somebody brings along, with the same marks drawn on them; they stay in the browser. */
export interface Props {
  marks: FigureAnswer['marks']
  names: readonly string[]
}
const props = defineProps<Props>()
const figures = ref<LoadedFigure[]>([])
const trouble = ref('')
const name = ref('')
const mostBytes = 2_000_000

async function load(event: Event) {
  const input = event.target as HTMLInputElement
  const [file] = input.files ?? []
  if (!file) return
  const read =
    file.size > mostBytes ? 'The file is larger than 2 MB. Nothing was loaded.' : readFigures(await file.text())
  trouble.value = typeof read === 'string' ? read : ''
  figures.value = typeof read === 'string' ? [] : read
  name.value = file.name
  input.value = ''
}
const within = computed(() => {
  const [first, last] = [figures.value[0]?.day, figures.value.at(-1)?.day]
  return props.marks.flatMap((mark, at) => {
    const day = dayOf(mark.at)
    return first !== undefined && day >= first && day <= last! ? [{ mark, day, name: props.names[at]! }] : []
  })
})
const moments = computed(() =>
  within.value.map(({ day, name: said }) => ({ value: day, text: `${said}, ${dateText(day)}` })),
)
const chosen = ref<string | null>(null)
const day = computed(() => moments.value.find(({ value }) => value === chosen.value)?.value ?? moments.value[0]?.value)
const sides = computed(() => (day.value === undefined ? null : beforeAndAfter(figures.value, day.value)))
</script>

<template>
  <details>
    <summary>Figures of your own, with these marks on them</summary>
    <p class="quiet note">
      A file with a day and a number a line, as 2026-04-01,1234.50. It is read here and goes nowhere.
    </p>
    <p class="note">
      <input type="file" accept=".csv,.txt,.tsv,text/csv,text/plain" aria-label="File of figures" @change="load" />
    </p>
    <p v-if="trouble" class="attention" role="alert">{{ trouble }}</p>
    <template v-if="figures.length > 0">
      <p class="note">
        {{ name }}: {{ counted(figures.length, 'figure') }}, {{ dateText(figures[0]!.day) }} to
        {{ dateText(figures.at(-1)!.day) }}
      </p>
      <FigureChart
        :points="figures"
        :marks="within.map(({ mark }) => mark)"
        :names="within.map(({ name: said }) => said)"
        :a="null"
        :b="day ?? null"
        @pick="() => undefined"
      />
      <p v-if="sides && day" class="note">
        Before and after
        <ChoicePart :value="day" :choices="moments" @choose="(moment) => (chosen = moment)" />: on average
        <b class="mono">{{ amountText(sides.before) }}</b> over the {{ counted(sides.many, 'figure') }} before,
        <b class="mono">{{ amountText(sides.after) }}</b> over the {{ counted(sides.many, 'figure') }} from then on,
        which is <b class="mono">{{ amountText(sides.difference, { signed: true }) }}</b>.
      </p>
      <p v-else class="quiet note">None of the marks lies in the time of these figures.</p>
    </template>
  </details>
</template>

<style scoped src="../scope/sentence.css"></style>
<style scoped src="./figures.css"></style>
