<script setup lang="ts">
import { routes, type FigureAnswer } from '@spoor/contract'
import {
  addDays,
  amountText,
  counted,
  dateText,
  grouped,
  valueKind,
  scopeOfPart,
  severalCurrencies,
  type FigureWork,
  type Scope,
} from '@spoor/core'
import { computed, defineAsyncComponent } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { dayOf, dayOnly, readerZone } from '../value/time.ts'
import { visible } from '../value/words.ts'
import ChoicePart from '../scope/ChoicePart.vue'
import { fieldChoices, fieldMeant } from './field-choice.ts'
import { useWorkedOut, type WorkProps } from './worked-out.ts'

/** A number of all records over time, and what moved it from one day to another. */
export type Props = WorkProps<FigureWork>
const props = defineProps<Props>()
const emit = defineEmits<{ put: [work: FigureWork]; show: [scope: Scope] }>()
const FigureChart = defineAsyncComponent(() => import('./FigureChart.vue'))
const LoadedFigures = defineAsyncComponent(() => import('./LoadedFigures.vue'))

const isNumber = ({ baseType }: { baseType: string }) => valueKind(baseType) === 'number'
const fits = (field: { baseType: string }) => props.work.reckoning === 'count' || isNumber(field)
const fields = computed(() => fieldChoices(props.names, fits))
/** What the sentence names, where the form names nothing. */
const meant = computed<FigureWork>(() => ({
  ...props.work,
  fieldId: props.work.fieldId ?? fieldMeant(props.scope, props.names, fits),
}))
const { data, error, isPending, stale } = useWorkedOut(
  { props, work: () => meant.value, enabled: () => meant.value.fieldId !== null },
  (query, signal) => call(routes.readFigure, { query, signal }),
)
const put = (change: Partial<FigureWork>) => emit('put', { ...meant.value, ...change })
const reckoned = [
  { value: 'total' as const, text: 'total' },
  { value: 'mean' as const, text: 'mean' },
  { value: 'count' as const, text: 'number' },
]
const steps = [
  { value: 'day' as const, text: 'day by day' },
  { value: 'week' as const, text: 'week by week' },
  { value: 'month' as const, text: 'month by month' },
]
const bys = [
  { value: 'cause' as const, text: 'by what brought it' },
  { value: 'who' as const, text: 'by who' },
  { value: 'kind' as const, text: 'by kind of actor' },
]

/** In which currencies there are amounts; empty where all are of one. */
const currencies = computed<{ value: string | null; text: string }[]>(() => {
  const choices = (data.value?.currency?.values ?? []).map(({ value, name }) => ({ value, text: visible(name) }))
  if (choices.length === 0 && meant.value.currency === null) return []
  return [...choices, { value: null, text: 'no currency chosen' }]
})

type Part = FigureAnswer['marks'][number]
const between = computed(() => data.value?.between ?? null)
const figure = (text: string | null) => (text === null ? 'not known' : amountText(text))
const moved = (text: string) => amountText(text, { signed: true })
const largest = computed(() =>
  Math.max(1e-9, ...(between.value?.parts ?? []).map((part) => Math.abs(Number(part.difference)))),
)
const share = (part: Part) => (100 * Math.abs(Number(part.difference))) / largest.value

/** The saves of a part, between the two days. */
function scopeOf(part: Part): Scope | null {
  const { a, b } = between.value!
  const { field, currency } = data.value!
  const currencyId = currency?.fieldId ?? null
  return scopeOfPart(part, { fieldId: field.id, currencyId, a: a.day, b: b.day, by: props.work.by, zone: readerZone })
}
/** What the day of a mark made of it, alone. */
function around(part: Part) {
  const day = dayOf(part.at)
  put({ a: addDays(day, -1), b: day })
}
/** The two days as they are asked for, which may be ahead of the answer. */
const asDays = () => ({ a: props.work.a ?? between.value!.a.day, b: props.work.b ?? between.value!.b.day })
/** The nearer of the two days goes to where somebody pressed. */
function pick(day: string) {
  if (!between.value) return
  const { a, b } = asDays()
  const distance = (one: string) => Math.abs(Date.parse(one) - Date.parse(day))
  const isA = day < a || (day < b && distance(a) <= distance(b))
  put(isA ? { a: day, b } : { a, b: day })
}
const days = (which: 'a' | 'b') => ({
  value: between.value ? asDays()[which] : undefined,
  onChange: (event: Event) => {
    const day = (event.target as HTMLInputElement).value
    if (day) put({ ...asDays(), [which]: day })
  },
})
function partName({ cause, name }: Part): string {
  const { field, currency } = data.value!
  if (cause === 'begun' || cause === 'ended') {
    const moved = currency && (cause === 'begun' ? ' or moved into this currency' : ' or moved out of it')
    return `${field.plural} ${cause}${moved ?? ''}`
  }
  return cause === 'who' && props.work.by === 'cause' ? `by hand, ${name}` : visible(name)
}
const isUnknown = computed(() => (data.value?.points ?? []).filter(({ unknown }) => unknown > 0).length)
</script>

<template>
  <div class="form" :class="{ stale }">
    <p class="sentence" role="group" aria-label="Which figure is shown">
      The <ChoicePart :value="work.reckoning" :choices="reckoned" @choose="(reckoning) => put({ reckoning })" />
      {{ work.reckoning === 'count' ? 'of records that have' : 'of' }}
      <ChoicePart
        :value="meant.fieldId"
        :choices="fields"
        placeholder="choose a field"
        @choose="(fieldId) => put({ fieldId, currency: null })"
      />
      <template v-if="work.reckoning !== 'count' && currencies.length > 0">
        in
        <ChoicePart
          :value="meant.currency"
          :choices="currencies"
          placeholder="choose a currency"
          @choose="(currency) => put({ currency })"
        />
      </template>
      over all of them, <ChoicePart :value="work.step" :choices="steps" @choose="(step) => put({ step })" />.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="meant.fieldId === null" class="quiet">
      Choose a field that holds numbers: its total over all records is reckoned from what was found and from every
      change.
    </p>
    <p v-else-if="isPending" class="quiet">Reckoning what every record held …</p>
    <p v-else-if="data?.currency?.chosen === null" class="quiet">
      {{
        severalCurrencies(
          data.currency.name,
          data.currency.values.map(({ name }) => visible(name)),
        )
      }}: choose one above.
    </p>
    <p v-else-if="data && data.points.length === 0" class="quiet">
      {{ data.field.name }} of {{ data.field.plural }} was not tracked in this time.
    </p>
    <div v-else-if="data" class="two">
      <div class="left">
        <FigureChart
          :points="data.points"
          :marks="data.marks"
          :names="data.marks.map(partName)"
          :a="between?.a.day ?? null"
          :b="between?.b.day ?? null"
          @pick="pick"
        />
        <p v-if="data.marks.length > 0" class="note">
          Marks:
          <template v-for="(part, at) in data.marks" :key="at"
            ><button class="plain link" @click="around(part)">{{ partName(part) }}, {{ dayOnly(part.at) }}</button
            ><template v-if="at < data.marks.length - 1"> · </template></template
          >
        </p>
        <details>
          <summary>The figures</summary>
          <table>
            <thead>
              <tr>
                <th scope="col">at the end of</th>
                <th scope="col" class="figure">{{ work.reckoning }}</th>
                <th scope="col" class="figure">records</th>
                <th scope="col" class="figure">not known</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="point in data.points" :key="point.day">
                <td>{{ dateText(point.day) }}</td>
                <td class="figure mono">{{ figure(point.figure) }}</td>
                <td class="figure mono">{{ grouped(point.records) }}</td>
                <td class="figure mono">{{ point.unknown > 0 ? grouped(point.unknown) : '' }}</td>
              </tr>
            </tbody>
          </table>
        </details>
        <LoadedFigures :marks="data.marks" :names="data.marks.map(partName)" />
      </div>
      <section v-if="between" class="right" aria-label="What moved it">
        <h3>From A to B</h3>
        <p class="ends">
          <label>A <input type="date" v-bind="days('a')" aria-label="Day A" /></label>
          <label>B <input type="date" v-bind="days('b')" aria-label="Day B" /></label>
        </p>
        <p class="mono difference">
          {{ figure(between.a.figure) }} → {{ figure(between.b.figure) }}
          <b v-if="between.difference !== null">{{ moved(between.difference) }}</b>
        </p>
        <p v-if="work.reckoning === 'mean'" class="quiet note">
          A mean has no parts that add up: ask for the total to see what moved it.
        </p>
        <template v-else>
          <p class="quiet note">
            what moved it, <ChoicePart :value="work.by" :choices="bys" @choose="(by) => put({ by })" />; the parts add
            up to the last digit
          </p>
          <table class="parts">
            <tbody>
              <tr v-for="(part, at) in between.parts" :key="at">
                <th scope="row">
                  <button
                    v-if="scopeOf(part)"
                    class="plain name"
                    title="Show the saves"
                    @click="emit('show', scopeOf(part)!)"
                  >
                    {{ partName(part) }}
                  </button>
                  <template v-else>{{ partName(part) }}</template>
                  <span class="quiet">{{ counted(part.saves, 'record') }}</span>
                </th>
                <td class="bar"><span :style="{ width: `${share(part)}%` }" /></td>
                <td class="figure mono">{{ moved(part.difference) }}</td>
              </tr>
              <tr v-if="between.rest.parts > 0">
                <th scope="row">{{ counted(between.rest.parts, 'other part') }}</th>
                <td />
                <td class="figure mono">{{ moved(between.rest.difference) }}</td>
              </tr>
            </tbody>
            <tfoot>
              <tr>
                <th scope="row">together</th>
                <td />
                <td class="figure mono">{{ between.difference === null ? '' : moved(between.difference) }}</td>
              </tr>
            </tfoot>
          </table>
        </template>
        <p class="quiet note">
          <template v-if="isUnknown > 0"
            >In {{ counted(isUnknown, 'step') }} not every record is known; the figure is of those that are, and what
            became known is a part of its own.</template
          ><template v-else>Every record is known in all that time.</template> Days end at midnight, {{ readerZone }}.
          <template v-if="data.doubt">{{ data.doubt }}</template> Press a part for its saves, a mark for its day alone,
          the chart to move A or B.
        </p>
      </section>
    </div>
  </div>
</template>

<style scoped src="../scope/sentence.css"></style>
<style scoped src="./figures.css"></style>
<style scoped>
.two {
  --right: minmax(280px, 400px);
}
.right {
  border-left: 1px solid var(--line);
  padding-left: 18px;
  font-size: 13px;
}
.ends {
  display: flex;
  gap: 14px;
  margin: 4px 0;
}
.ends input {
  border: 1px solid var(--line);
  border-radius: 3px;
  background: var(--panel);
  color: var(--ink);
  font: inherit;
}
.difference b {
  margin-left: 10px;
}
.parts {
  width: 100%;
}
.parts th {
  white-space: normal;
  padding: 4px 10px 4px 0;
}
.parts th .quiet {
  display: block;
  font-size: 12px;
}
.bar {
  width: 90px;
}
.bar span {
  display: block;
  height: 8px;
  background: var(--moss);
  min-width: 2px;
}
</style>
