<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import PickList from '../frame/PickList.vue'
import { routes, type ProblemBody, type SourceMap, type TrackedField } from '@spoor/contract'
import { capitalised, counted, type KeepOrOff, type ReasonRule } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { stagedField, withWish, type FieldWish, type useTracking } from './draft.ts'
import LockEditor from './LockEditor.vue'
import type { PickedField } from './selection.ts'

/** How the picked fields are kept, all at once. */
export interface Props {
  source: SourceMap
  picked: readonly PickedField[]
  mayEdit: boolean
  stage: ReturnType<typeof useTracking>['stage']
}
const props = defineProps<Props>()
const emit = defineEmits<{ keep: [keep: KeepOrOff]; none: []; described: [] }>()

const fields = computed(() => props.picked.map(({ field }) => stagedField(props.source, field)))
const on = computed(() => fields.value.filter((field) => field.keep !== 'off'))
const one = computed(() => (props.picked.length === 1 ? props.picked[0]! : null))
/** The value all picked fields share, or undefined when they differ. */
const shared = <T,>(of: (field: TrackedField) => T): T | undefined => {
  const [first, ...rest] = fields.value.map(of)
  return rest.every((value: unknown) => value === first) ? first : undefined
}
const title = computed(() => {
  const single = one.value
  if (single) return `${capitalised(single.field.name)} of ${single.type.plural}`
  const types = [...new Set(props.picked.map(({ type }) => type.plural))]
  return `${counted(props.picked.length, 'field')} of ${types.slice(0, 3).join(', ')}${types.length > 3 ? ` and ${types.length - 3} more` : ''}`
})
const keeps: { keep: KeepOrOff; text: string; key: string }[] = [
  { keep: 'values', text: 'Values', key: 'v' },
  { keep: 'fingerprint', text: 'Fingerprint', key: 'f' },
  { keep: 'off', text: 'Off', key: 'o' },
]

function wish(what: FieldWish, lockWords: string[] = []) {
  const byType = new Map<number, TrackedField[]>()
  for (const { type, field } of props.picked)
    if (stagedField(props.source, field).keep !== 'off') byType.set(type.id, [...(byType.get(type.id) ?? []), field])
  props.stage(
    props.source.id,
    (now) => [...byType].reduce((edits, [typeId, list]) => withWish(edits, typeId, list, what), now.draft.edits),
    lockWords,
  )
}

const siblings = computed(() =>
  (one.value?.type.fields ?? []).filter(
    (field) => field.id !== one.value?.field.id && stagedField(props.source, field).keep !== 'off',
  ),
)

const called = ref('')
const refersTo = ref<number | null>(null)
const problem = ref<ProblemBody | null>(null)
watch(
  () => one.value?.field.id,
  () => {
    called.value = one.value?.field.name ?? ''
    refersTo.value = one.value?.field.refersTo ?? null
    problem.value = null
  },
  { immediate: true },
)
const referable = computed(() => [
  { value: 0, label: 'nothing' },
  ...props.source.types
    .filter((type) => type.fields.filter((field) => field.partOfKey).length === 1)
    .map((type) => ({ value: type.id, label: type.plural })),
])
const describedOtherwise = computed(
  () =>
    one.value !== null && (called.value.trim() !== one.value.field.name || refersTo.value !== one.value.field.refersTo),
)

async function describe() {
  try {
    await call(routes.describeField, {
      params: { fieldId: String(one.value!.field.id) },
      body: { name: called.value, refersTo: refersTo.value },
    })
    problem.value = null
    emit('described')
  } catch (error) {
    problem.value = problemOf(error)
  }
}
</script>

<template>
  <section class="block" aria-label="How the picked fields are kept">
    <h3>
      <bdi>{{ title }}</bdi>
      <button class="plain close" aria-label="Pick nothing" title="Esc" @click="emit('none')">✕</button>
    </h3>
    <p v-if="one" class="quiet">
      <span class="mono">{{ one.field.column }} {{ one.field.dataType }}</span
      >{{ one.field.comment ? ` · ${one.field.comment}` : '' }}
    </p>
    <div class="keeps" role="group" aria-label="Kept as">
      <Button
        v-for="choice in keeps"
        :key="choice.keep"
        size="small"
        :type="shared((field) => field.keep) === choice.keep ? 'primary' : 'default'"
        :aria-pressed="shared((field) => field.keep) === choice.keep"
        :disabled="!mayEdit"
        :title="`Key: ${choice.key}`"
        @click="emit('keep', choice.keep)"
        >{{ choice.text }}</Button
      >
    </div>
    <template v-if="on.length > 0">
      <Checkbox
        :checked="on.every((field) => field.masked)"
        :disabled="!mayEdit || on.some((field) => field.keep === 'fingerprint')"
        @change="wish({ masked: !on.every((field) => field.masked) })"
        >Masked: shown only when revealed, and each reveal is recorded</Checkbox
      >
      <Checkbox
        :checked="on.every((field) => field.sensitive)"
        :disabled="!mayEdit"
        @change="wish({ sensitive: !on.every((field) => field.sensitive) })"
        >Sensitive: setting it back takes a second person</Checkbox
      >
      <label class="row"
        >Reason for a change
        <PickList
          :value="shared((field) => field.reason) as never"
          size="small"
          placeholder="differs"
          aria-label="Reason for a change"
          :disabled="!mayEdit"
          :options="[
            { value: 'never', label: 'never asked' },
            { value: 'asked', label: 'asked' },
            { value: 'required', label: 'required' },
          ]"
          @change="(value: unknown) => wish({ reason: value as ReasonRule })"
      /></label>
      <label v-if="one && siblings.length > 0" class="row"
        >Follows from
        <PickList
          :value="fields[0]!.derivedFrom as never"
          mode="multiple"
          size="small"
          class="wide"
          placeholder="nothing"
          aria-label="Follows from"
          :disabled="!mayEdit"
          :options="siblings.map((field) => ({ value: field.id, label: field.name }))"
          option-filter-prop="label"
          @change="(value: unknown) => wish({ derivedFrom: value as unknown as number[] })"
      /></label>
      <LockEditor
        :lock="shared((field) => JSON.stringify(field.lock))"
        :disabled="!mayEdit"
        @lock="(lock, words) => wish({ lock }, [words])"
      />
    </template>
    <details v-if="one && mayEdit">
      <summary>What it is called and refers to</summary>
      <label class="row">Called <Input v-model:value="called" size="small" aria-label="Called" /></label>
      <label class="row"
        >Refers to
        <PickList
          :value="refersTo ?? 0"
          size="small"
          class="wide"
          show-search
          option-filter-prop="label"
          aria-label="Refers to"
          :options="referable"
          @change="(value: unknown) => (refersTo = Number(value) || null)"
      /></label>
      <Button v-if="describedOtherwise" size="small" @click="describe">Keep this</Button>
      <ProblemNote v-if="problem" :problem="problem" />
    </details>
  </section>
</template>

<style scoped>
.block {
  padding: 12px 18px;
  border-bottom: 1px solid var(--line);
  font-size: 13px;
  display: grid;
  gap: 7px;
  max-height: 55%;
  overflow: auto;
  flex: none;
}
h3 {
  font-size: 15px;
  font-weight: 650;
  display: flex;
  justify-content: space-between;
}
.close {
  color: var(--soft);
}
.keeps {
  display: flex;
  gap: 6px;
}
.block :deep(.ant-checkbox-wrapper) {
  margin: 0;
  font-size: 13px;
}
.row {
  display: flex;
  align-items: center;
  gap: 10px;
  min-height: 24px;
}
.row > :last-child {
  flex: 1;
  min-width: 0;
}
summary {
  cursor: pointer;
  color: var(--pine);
}
details .row {
  margin-top: 6px;
}
</style>
