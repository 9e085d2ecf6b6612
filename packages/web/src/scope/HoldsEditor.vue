<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { capitalised, counted, withHeld, type HeldTest, type HoldsPart } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import PickList from '../frame/PickList.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { shownValue } from '../value/words.ts'
import type { NamedVocabulary } from './vocabulary.ts'

/** Which records, by what a field of them held when they were changed, or holds by now. */
export interface Props {
  part: HoldsPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: HoldsPart] }>()
const part = computed<HoldsPart>(() => props.part ?? { part: 'holds', exclude: false, tests: [] })
const last = part.value.tests.at(-1)
const fieldId = ref(last?.fieldId)
const now = ref(last?.now ?? false)
const typed = ref('')

const fields = computed(() =>
  props.names.types.map((type) => ({
    label: capitalised(type.plural),
    options: props.names.fields
      .filter((field) => field.typeId === type.id && !props.names.plan(field.id).masked)
      .map((field) => ({ value: field.id, label: field.name, search: `${field.name} ${type.plural}` })),
  })),
)
const times = [
  { value: false, label: 'was, when it was changed,' },
  { value: true, label: 'is now' },
]
const held = useQuery({
  queryKey: ['held-values', fieldId],
  queryFn: ({ signal }) => call(routes.readHeldValues, { params: { fieldId: String(fieldId.value) }, signal }),
  enabled: () => fieldId.value !== undefined,
  retry: false,
})
const found = computed(() => held.data.value)
const chosen = computed(
  () => part.value.tests.find((test) => test.fieldId === fieldId.value && test.now === now.value)?.values ?? [],
)
/** What is held by now, and before it what was chosen and is not. */
const offered = computed(() => {
  const own = found.value?.values ?? []
  const others = chosen.value.filter((value) => !own.some((one) => one.value === value))
  return [...others.map((value) => ({ value, label: null, records: null })), ...own]
})
function words(value: string | null, label: string | null): string {
  if (value === null) return 'nothing'
  const called = label ?? props.names.held?.(fieldId.value!, value)
  return called ?? (shownValue(value, props.names.baseType(fieldId.value!)).text || '“”')
}

function put(tests: readonly HeldTest[]) {
  emit('put', { ...part.value, tests: tests.filter(({ values }) => values.length > 0) })
}
function toggle(value: string | null) {
  if (fieldId.value === undefined) return
  const test = { fieldId: fieldId.value, now: now.value }
  if (!chosen.value.includes(value)) return put(withHeld(part.value.tests, { ...test, values: [value] }))
  put(
    part.value.tests.map((one) =>
      one.fieldId === test.fieldId && one.now === test.now
        ? { ...one, values: one.values.filter((other) => other !== value) }
        : one,
    ),
  )
}
function add() {
  if (!chosen.value.includes(typed.value)) toggle(typed.value)
  typed.value = ''
}
</script>

<template>
  <div class="asks">
    <PickList
      v-model:value="fieldId"
      aria-label="Field"
      size="small"
      placeholder="Choose a field"
      show-search
      option-filter-prop="search"
      :options="fields"
    />
    <PickList v-model:value="now" aria-label="Then or now" size="small" :options="times" />
  </div>
  <template v-if="fieldId !== undefined">
    <p v-if="held.isFetching.value && !found" role="status" class="quiet">Reading what the records held …</p>
    <ProblemNote v-else-if="held.error.value" :problem="problemOf(held.error.value)" />
    <ul v-else class="held" aria-label="Values">
      <li v-for="one in offered" :key="String(one.value)">
        <Checkbox :checked="chosen.includes(one.value)" @change="toggle(one.value)">{{
          words(one.value, one.label)
        }}</Checkbox>
        <span v-if="one.records !== null" class="quiet">{{ counted(one.records, 'record') }} now</span>
      </li>
      <li v-if="found?.more" class="quiet">and others, which can be typed</li>
    </ul>
    <form class="new" @submit.prevent="add">
      <Input v-model:value="typed" size="small" aria-label="Another value" placeholder="Another value" />
      <Button size="small" html-type="submit">Add</Button>
    </form>
  </template>
  <p class="quiet">
    Their lines are meant with them. Where nobody knows what a record held, it is not among them. Masked fields are left
    out.
  </p>
</template>

<style scoped src="./condition.css"></style>
<style scoped>
.asks {
  display: grid;
  grid-template-columns: 1fr auto;
  gap: 6px;
}
.held {
  max-height: 240px;
  overflow: auto;
  margin: 6px 0;
}
.held li {
  display: flex;
  justify-content: space-between;
  gap: 12px;
}
.new {
  --condition: 1fr auto;
}
</style>
