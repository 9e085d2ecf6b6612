<script setup lang="ts">
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import InputNumber from 'ant-design-vue/es/input-number'
import type { WatchRule } from '@spoor/contract'
import { usualDays, valueKind, type Scope, type WatchMove, type WatchSpell } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { fieldChoices, fieldMeant } from '../figures/field-choice.ts'
import PickList from '../frame/PickList.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import WeekdayChecks from './WeekdayChecks.vue'

/** When a watch fires, as it is being chosen; what was entered for one way stays while another is looked at. */
export interface Props {
  scope: Scope
  names: NamedVocabulary
  disabled: boolean
}
const props = defineProps<Props>()
const fires = defineModel<WatchRule['fires']>('fires', { required: true })
/** What is missing; null where it can be kept. */
const missing = defineModel<string | null>('missing', { required: true })

type When = 'each' | 'more' | Exclude<WatchRule['fires']['fires'], 'saves'>
const given = fires.value
const when = ref<When>(given.fires === 'saves' ? (given.more > 0 ? 'more' : 'each') : given.fires)
const usualMore = 20
const more = ref(given.fires === 'saves' && given.more > 0 ? given.more : usualMore)
const within = ref<WatchSpell>(given.fires === 'saves' || given.fires === 'sum' ? given.within : 'run')
const chosen = ref<number | null>(given.fires === 'sum' ? given.fieldId : null)
const way = ref<WatchMove>(given.fires === 'sum' ? given.way : 'moves')
const over = ref(given.fires === 'sum' ? given.over : '1000')
const by = ref(given.fires === 'missing' ? given.by : '06:00')
const at = ref(given.fires === 'digest' ? given.at : '07:30')
const days = ref<number[]>('days' in given ? [...given.days] : [1, 2, 3, 4, 5])
const notHolidays = ref('days' in given ? given.notHolidays === true : true)

const whenOptions = [
  { value: 'each', label: 'each save, one message a run' },
  { value: 'more', label: 'more saves together than a number' },
  { value: 'sum', label: 'a number moves by more than an amount' },
  { value: 'unusual', label: 'more than is usual for who does it and what it is' },
  { value: 'missing', label: 'what should have come and did not' },
  { value: 'stands-out', label: 'something stands out' },
  { value: 'alarm', label: 'an alarm, whatever it is about' },
  { value: 'guard', label: 'a guard refuses, warns or lets somebody by' },
  { value: 'digest', label: 'each day: what Today shows' },
]
const withinOptions = [
  { value: 'run', label: 'in one run' },
  { value: 'hour', label: 'in one hour' },
  { value: 'day', label: 'in one day' },
]
const wayOptions = [
  { value: 'moves', label: 'moves either way' },
  { value: 'rises', label: 'rises' },
  { value: 'falls', label: 'falls' },
]
const isNumber = ({ baseType }: { baseType: string }) => valueKind(baseType) === 'number'
const fieldOptions = computed(() =>
  fieldChoices(props.names, isNumber).map(({ value, text }) => ({ value, label: text })),
)
const fieldId = computed(
  () => chosen.value ?? fieldMeant(props.scope, props.names, isNumber) ?? fieldOptions.value[0]?.value ?? null,
)
const isAmount = computed(() => /^\d{1,20}(\.\d{1,10})?$/.test(over.value.trim()))

const made = computed((): WatchRule['fires'] | string => {
  const onDays = { days: days.value, notHolidays: notHolidays.value }
  switch (when.value) {
    case 'each':
      return { fires: 'saves', more: 0, within: 'run' }
    case 'more':
      return { fires: 'saves', more: more.value, within: within.value }
    case 'sum':
      if (fieldId.value === null) return 'No field that holds numbers is tracked.'
      if (!isAmount.value) return 'Give an amount as 12500 or 12500.50.'
      return { fires: 'sum', fieldId: fieldId.value, way: way.value, over: over.value.trim(), within: within.value }
    case 'missing':
      return days.value.length === 0 ? 'Choose a day of the week.' : { fires: 'missing', by: by.value, ...onDays }
    case 'digest':
      return days.value.length === 0 ? 'Choose a day of the week.' : { fires: 'digest', at: at.value, ...onDays }
    default:
      return { fires: when.value }
  }
})
watch(
  made,
  (now) => {
    missing.value = typeof now === 'string' ? now : null
    if (typeof now !== 'string') fires.value = now
  },
  { immediate: true },
)
</script>

<template>
  <fieldset class="part" :disabled="disabled">
    <legend>when</legend>
    <PickList v-model:value="when" :options="whenOptions" aria-label="When it fires" size="small" />
    <span v-if="when === 'more'" class="line"
      >more than
      <InputNumber
        v-model:value="more"
        :min="1"
        :max="1000000"
        :precision="0"
        size="small"
        aria-label="More saves than" />
      saves <PickList v-model:value="within" :options="withinOptions" aria-label="Counted together" size="small"
    /></span>
    <template v-if="when === 'sum'">
      <PickList
        :value="fieldId"
        :options="fieldOptions"
        option-filter-prop="label"
        show-search
        aria-label="Which number"
        size="small"
        @update:value="chosen = $event as number"
      />
      <span class="line">
        <PickList v-model:value="way" :options="wayOptions" aria-label="Which way" size="small" />
        by more than
        <Input v-model:value="over" size="small" class="time" inputmode="decimal" aria-label="By more than" />
        <PickList v-model:value="within" :options="withinOptions" aria-label="Added up" size="small" />
      </span>
      <p class="quiet">All its differences in scope are added up, each without its sign.</p>
    </template>
    <span v-if="when === 'missing'" class="line"
      >by <Input v-model:value="by" type="time" size="small" class="time" aria-label="By when" /> on
    </span>
    <span v-if="when === 'digest'" class="line"
      >at <Input v-model:value="at" type="time" size="small" class="time" aria-label="At what time it is told" /> on
    </span>
    <span v-if="when === 'missing' || when === 'digest'" class="line">
      <WeekdayChecks v-model:days="days" />
      <Checkbox v-model:checked="notHolidays">but not on holidays</Checkbox>
    </span>
    <p v-if="when === 'unusual'" class="quiet">
      More saves of a record type in one day than somebody usually makes: three times the mean of their last
      {{ usualDays.most }} days with any, and five more at least.
    </p>
    <p v-if="when === 'stands-out'" class="quiet">
      Whatever is noticed in scope, once, as soon as it is; how noticing works is set under
      <RouterLink to="/today/noticing">Noticing</RouterLink>.
    </p>
    <p v-if="when === 'alarm'" class="quiet">
      Capture that was altered or missed something, a source that is away, a ledger that is not as written.
    </p>
    <p v-if="when === 'guard'" class="quiet">
      Whatever <RouterLink to="/watches/guards">guards</RouterLink> meet. Who was refused is known where the application
      tells of it; that somebody was, always.
    </p>
    <p v-if="when === 'digest'" class="quiet">
      Its sentences and what stands out, as you see them, with alarms and what waits for you.
    </p>
  </fieldset>
</template>

<style scoped src="./pane.css"></style>
