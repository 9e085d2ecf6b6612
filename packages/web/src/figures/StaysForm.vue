<script setup lang="ts">
import { routes } from '@spoor/contract'
import {
  counted,
  durationText,
  grouped,
  readStayBy,
  valueKind,
  scopeOfStays,
  scopeOfValues,
  type Scope,
  type StayGroup,
  type StayBy,
  type StaysWork,
} from '@spoor/core'
import { computed } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { recordLink } from '../records/link.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { readerZone } from '../value/time.ts'
import { shownValue, visible } from '../value/words.ts'
import ChoicePart from '../scope/ChoicePart.vue'
import { fieldChoices, fieldMeant } from './field-choice.ts'
import { useWorkedOut, type WorkProps } from './worked-out.ts'

/** How long records stayed in the values of a field, or took from one of them to another. */
export type Props = WorkProps<StaysWork>
const props = defineProps<Props>()
const emit = defineEmits<{ put: [work: StaysWork]; show: [scope: Scope] }>()

const ofFew = new Set(['text', 'boolean', 'other'])
const fits = ({ baseType }: { baseType: string }) => ofFew.has(valueKind(baseType))
const fields = computed(() => fieldChoices(props.names, fits))
/** What the sentence names, where the form names nothing; a passage has one value alone. */
const meant = computed<StaysWork>(() => ({
  ...props.work,
  fieldId: props.work.fieldId ?? fieldMeant(props.scope, props.names, fits),
  by: props.work.to !== null && props.work.by === 'value' ? 'who' : props.work.by,
}))
const { data, error, isPending, stale } = useWorkedOut(
  { props, work: () => meant.value, enabled: () => meant.value.fieldId !== null },
  (query, signal) => call(routes.readStays, { query, signal }),
)
const put = (change: Partial<StaysWork>) => emit('put', { ...meant.value, ...change })
const field = computed(() => props.names.fields.find(({ id }) => id === meant.value.fieldId))
const isPassage = computed(() => props.work.to !== null)
const values = computed(() =>
  (data.value?.values ?? []).flatMap((value) =>
    value === null ? [] : [{ value, text: value === '' ? 'empty text' : `“${visible(value)}”` }],
  ),
)
const froms = computed(() => [
  { value: null as string | null, text: isPassage.value ? 'being made' : 'each value' },
  ...values.value,
])
const tos = computed(() => [
  { value: null as string | null, text: 'the next, whatever it is' },
  ...values.value.filter(({ value }) => value !== props.work.from),
])
const bys = computed(() => [
  ...(isPassage.value ? [] : [{ value: 'value' as StayBy, text: 'value' }]),
  { value: 'who' as StayBy, text: 'who ended it' },
  { value: 'kind' as StayBy, text: 'kind of actor who ended it' },
  { value: 'month' as StayBy, text: 'month in which it ended' },
  ...props.names.fields
    .filter(
      (one) => one.typeId === field.value?.typeId && one.id !== meant.value.fieldId && !one.masked && !one.fingerprint,
    )
    .map((one) => ({ value: readStayBy(`field.${one.id}`)!, text: one.name })),
])
const by = computed(() => meant.value.by)
const took = (ms: number | null) => (ms === null ? '' : durationText(ms))

/** Saves that ended what a group counts. */
const scopeOf = (of: StayGroup) => scopeOfStays(props.scope, meant.value, meant.value.fieldId!, of)
/** Saves that went one step. */
const scopeOfStep = ({ from, to }: { from: string | null; to: string | null }) =>
  scopeOfValues(props.scope, meant.value.fieldId!, [
    { test: 'from', value: from },
    { test: 'to', value: to },
  ])
const linkTo = (key: string) => recordLink({ typeId: data.value!.field.typeId, key })
const steps = computed(() => data.value?.steps ?? [])
const told = (value: string | null) => shownValue(value, field.value?.baseType ?? 'text').text
</script>

<template>
  <div class="form" :class="{ stale }">
    <p class="sentence" role="group" aria-label="Which times are reckoned">
      How long
      <ChoicePart
        :value="meant.fieldId"
        :choices="fields"
        placeholder="choose a field"
        @choose="(fieldId) => put({ fieldId, from: null, to: null, by: 'value' })"
      />
      {{ isPassage ? 'took from' : 'stayed in' }}
      <ChoicePart :value="work.from" :choices="froms" @choose="(from) => put({ from })" />
      {{ isPassage ? 'to' : 'until' }}
      <ChoicePart
        :value="work.to"
        :choices="tos"
        @choose="(to) => put({ to, by: to === null ? 'value' : meant.by })"
      />, by <ChoicePart :value="by" :choices="bys" @choose="(chosen) => put({ by: chosen })" />.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="meant.fieldId === null" class="quiet">
      Choose a field that holds one of a few values, as a status does: how long records stay in each of them, and how
      long they take from one to another.
    </p>
    <p v-else-if="isPending" class="quiet">Reckoning what every record held …</p>
    <template v-else-if="data">
      <p class="note">
        {{ counted(data.all.many, isPassage ? 'passage' : 'stay') }} of which beginning and end are known<template
          v-if="data.all.medianMs !== null"
          >: half took no longer than <b>{{ took(data.all.medianMs) }}</b>, nine in ten no longer than
          <b>{{ took(data.all.p90Ms) }}</b></template
        >. {{ counted(data.goingOn, 'record') }} {{ data.goingOn === 1 ? 'is' : 'are' }}
        {{ isPassage ? 'on the way now' : 'in such a value now' }}.
      </p>
      <div class="two">
        <div class="scroll">
          <table v-if="data.groups.length > 0">
            <thead>
              <tr>
                <th scope="col">{{ bys.find(({ value }) => value === by)?.text }}</th>
                <th scope="col" class="figure">{{ isPassage ? 'passages' : 'stays' }}</th>
                <th scope="col" class="figure">median</th>
                <th scope="col" class="figure">90th percentile</th>
                <th scope="col" class="figure">longest</th>
                <th v-if="by === 'value'" scope="col" class="figure">in it now</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="group in data.groups" :key="JSON.stringify(group.of)">
                <th scope="row">
                  <button
                    v-if="scopeOf(group.of)"
                    class="plain name"
                    title="Show the saves that ended them"
                    @click="emit('show', scopeOf(group.of)!)"
                  >
                    {{ visible(group.name) }}
                  </button>
                  <template v-else>{{ visible(group.name) }}</template>
                </th>
                <td class="figure mono">{{ grouped(group.many) }}</td>
                <td class="figure mono">{{ took(group.medianMs) }}</td>
                <td class="figure mono">{{ took(group.p90Ms) }}</td>
                <td class="figure mono">{{ took(group.longestMs) }}</td>
                <td v-if="by === 'value'" class="figure mono">{{ grouped(group.goingOn) }}</td>
              </tr>
            </tbody>
          </table>
          <p v-if="data.moreGroups > 0" class="quiet note">
            {{ counted(data.moreGroups, 'other') }} with fewer are not shown.
          </p>
          <p v-if="data.unknown.began > 0" class="quiet note">
            {{ counted(data.unknown.began, 'more', 'more') }} began before this was tracked: how long they took nobody
            knows, and they are not counted.
          </p>
          <p v-if="data.unknown.ended > 0" class="quiet note">
            Of {{ counted(data.unknown.ended, 'more', 'more') }} nothing is known of how they ended; they are not
            counted.
          </p>
          <p class="quiet note">
            What ended in the time of the sentence above, by saves that it means, is counted. Months are those of
            {{ readerZone }}.
          </p>
        </div>
        <section aria-label="On the way now">
          <h3>{{ isPassage ? 'On the way now' : 'In it now' }}, longest first</h3>
          <table>
            <tbody>
              <tr v-for="one in data.longest.slice(0, 12)" :key="one.key">
                <th scope="row">
                  <RouterLink :to="linkTo(one.key)">{{ one.label }}</RouterLink>
                </th>
                <td v-if="!isPassage">{{ told(one.value) }}</td>
                <td class="figure mono">{{ one.forMs === null ? 'since before' : took(one.forMs) }}</td>
              </tr>
            </tbody>
          </table>
          <p v-if="data.longest.length === 0" class="quiet">None.</p>
          <h3>Steps</h3>
          <table>
            <tbody>
              <tr v-for="step in steps.slice(0, 14)" :key="`${step.from} ${step.to}`">
                <th scope="row">
                  <button
                    v-if="scopeOfStep(step)"
                    class="plain name"
                    title="Show the saves"
                    @click="emit('show', scopeOfStep(step)!)"
                  >
                    {{ told(step.from) }} → {{ told(step.to) }}
                  </button>
                  <template v-else>{{ told(step.from) }} → {{ told(step.to) }}</template>
                </th>
                <td class="figure mono">{{ grouped(step.many) }}</td>
                <td class="back" :class="{ attention: step.back > 0 }">
                  {{ step.back > 0 ? `${grouped(step.back)} back to where it had been` : '' }}
                </td>
              </tr>
            </tbody>
          </table>
        </section>
      </div>
    </template>
  </div>
</template>

<style scoped src="../scope/sentence.css"></style>
<style scoped src="./figures.css"></style>
<style scoped>
.two {
  --right: minmax(320px, 1fr);
}
.back {
  padding-left: 18px;
}
table + h3 {
  margin-top: 14px;
}
</style>
