<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import PickList from '../frame/PickList.vue'
import { routes, type ProblemBody, type SourceMap, type TrackedType } from '@spoor/contract'
import {
  capitalised,
  counted,
  type FailureRule,
  type FoundRule,
  type NewColumnRule,
  type ReasonRule,
  type TypeRules,
} from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { stagedRules, withRule, type useTracking } from './draft.ts'

/** A record type: its rules, which are staged, and what it is called and belongs to, which is not. */
export interface Props {
  source: SourceMap
  type: TrackedType
  mayEdit: boolean
  stage: ReturnType<typeof useTracking>['stage']
}
const props = defineProps<Props>()
const emit = defineEmits<{ close: []; described: [] }>()
const rules = computed(() => stagedRules(props.source, props.type))
const tracked = computed(() => props.type.fields.filter((field) => field.keep !== 'off').length)
const name = ref(props.type.name)
const plural = ref(props.type.plural)
const area = ref(props.type.area)
const labelFields = ref<number[]>([...props.type.labelFields])
const parentTypeId = ref<number | null>(props.type.parent?.typeId ?? null)
const effectiveFieldId = ref<number | null>(props.type.effectiveFieldId)
const pagePattern = ref(props.type.pagePattern ?? '')
const problem = ref<ProblemBody | null>(null)
const busy = ref(false)
const takenAgain = ref<string | null>(null)
async function takeAgain() {
  try {
    await call(routes.takeFound, { params: { typeId: String(props.type.id) } })
    takenAgain.value = 'It is under way.'
    problem.value = null
  } catch (error) {
    problem.value = problemOf(error)
  }
}
const nameOf = (typeId: number) =>
  props.source.types.find((type) => type.id === typeId)?.name ?? `record type ${typeId}`
const changed = computed(
  () =>
    name.value !== props.type.name ||
    plural.value !== props.type.plural ||
    area.value !== props.type.area ||
    labelFields.value.join() !== props.type.labelFields.join() ||
    parentTypeId.value !== (props.type.parent?.typeId ?? null) ||
    effectiveFieldId.value !== props.type.effectiveFieldId ||
    pagePattern.value.trim() !== (props.type.pagePattern ?? ''),
)
/** A field that refers to another record names by what that one is called. */
const nameable = computed(() =>
  props.type.fields.map((field) => ({
    value: field.id,
    label: field.refersTo === null ? field.name : `${field.name} (what that ${nameOf(field.refersTo)} is called)`,
  })),
)
const parents = computed(() => [
  { value: 0, label: 'nobody’s line' },
  ...props.type.possibleParents.map(({ typeId }) => ({ value: typeId, label: `a line of its ${nameOf(typeId)}` })),
])
const days = computed(() => [
  { value: 0, label: 'no field of it' },
  ...props.type.fields
    .filter((field) => /^(date|timestamp)/.test(field.dataType))
    .map((field) => ({ value: field.id, label: field.name })),
])
const stageRule = (rule: Partial<TypeRules>) =>
  props.stage(props.source.id, (now) => withRule(now.draft.edits, props.type.id, rule))

async function describe() {
  busy.value = true
  try {
    await call(routes.describeType, {
      params: { typeId: String(props.type.id) },
      body: {
        name: name.value,
        plural: plural.value,
        area: area.value,
        labelFields: labelFields.value,
        parentTypeId: parentTypeId.value,
        effectiveFieldId: effectiveFieldId.value,
        pagePattern: pagePattern.value.trim() || null,
      },
    })
    problem.value = null
    emit('described')
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section class="block" aria-label="The record type">
    <h3>
      <bdi>{{ capitalised(type.name) }}</bdi>
      <button class="plain close" aria-label="Close" @click="emit('close')">✕</button>
    </h3>
    <p class="quiet">
      <span class="mono">{{ type.schema }}.{{ type.table }}</span> · {{ tracked }} of
      {{ counted(type.fields.length, 'field') }} tracked<template v-if="type.comment"> · {{ type.comment }}</template>
    </p>
    <label class="row"
      >Reason for a save
      <PickList
        :value="rules.reason"
        size="small"
        aria-label="Reason for a save"
        :disabled="!mayEdit || tracked === 0"
        :options="[
          { value: 'never', label: 'never asked' },
          { value: 'asked', label: 'asked' },
          { value: 'required', label: 'required: the source refuses without' },
        ]"
        @change="(value: unknown) => stageRule({ reason: value as ReasonRule })"
    /></label>
    <label class="row"
      >New columns
      <PickList
        :value="rules.newColumns"
        size="small"
        aria-label="New columns"
        :disabled="!mayEdit || tracked === 0"
        :options="[
          { value: 'wait', label: 'wait for a decision' },
          { value: 'track', label: 'are tracked at once' },
        ]"
        @change="(value: unknown) => stageRule({ newColumns: value as NewColumnRule })"
    /></label>
    <label class="row"
      >If capture fails
      <PickList
        :value="rules.onFailure"
        size="small"
        aria-label="If capture fails"
        :disabled="!mayEdit || tracked === 0"
        :options="[
          { value: 'refuse', label: 'refuse the save' },
          { value: 'pass', label: 'let it through and say so' },
        ]"
        @change="(value: unknown) => stageRule({ onFailure: value as FailureRule })"
    /></label>
    <p v-if="rules.onFailure === 'pass'" class="risk">
      Should capturing itself fail, work goes on: the save is kept, counted and told of as an alarm, and
      {{ type.plural }} have a gap from then on. Each save takes a little longer.
    </p>
    <p v-else class="risk">
      Should capturing itself fail, the save fails with it: nothing can change unseen, and {{ type.plural }} cannot be
      saved until it is mended.
    </p>
    <label class="row"
      >What is there now
      <PickList
        :value="rules.asFound"
        size="small"
        aria-label="What is there when tracking begins"
        :disabled="!mayEdit || tracked === 0"
        :options="[
          { value: 'take', label: 'is taken in as found' },
          { value: 'leave', label: 'is left: unknown until it changes' },
        ]"
        @change="(value: unknown) => stageRule({ asFound: value as FoundRule })"
    /></label>
    <p v-if="mayEdit && tracked > 0 && type.asFound === 'take'" class="risk">
      Taken in once as tracking begins, and again after a gap.
      <button v-if="takenAgain === null" class="plain link" @click="takeAgain">Take it in again now</button>
      <span v-else role="status">{{ takenAgain }} <RouterLink to="/work">How far it is</RouterLink></span>
    </p>
    <details :open="mayEdit">
      <summary>What it is called and belongs to</summary>
      <label class="row"
        >One <Input v-model:value="name" size="small" aria-label="One of them" :disabled="!mayEdit"
      /></label>
      <label class="row"
        >Many <Input v-model:value="plural" size="small" aria-label="Many of them" :disabled="!mayEdit"
      /></label>
      <label class="row">Area <Input v-model:value="area" size="small" aria-label="Area" :disabled="!mayEdit" /></label>
      <label class="row"
        >Named by
        <PickList
          v-model:value="labelFields as never"
          mode="multiple"
          size="small"
          placeholder="its key"
          aria-label="Named by"
          :disabled="!mayEdit"
          option-filter-prop="label"
          :options="nameable"
      /></label>
      <label v-if="parents.length > 1" class="row"
        >It is
        <PickList
          :value="parentTypeId ?? 0"
          size="small"
          aria-label="Whose line it is"
          :disabled="!mayEdit"
          :options="parents"
          @change="(value: unknown) => (parentTypeId = Number(value) || null)"
      /></label>
      <label v-if="days.length > 1" class="row"
        >Takes effect by
        <PickList
          :value="effectiveFieldId ?? 0"
          size="small"
          aria-label="Takes effect by"
          :disabled="!mayEdit"
          :options="days"
          @change="(value: unknown) => (effectiveFieldId = Number(value) || null)"
      /></label>
      <label class="row"
        >Its own page
        <Input
          v-model:value="pagePattern"
          size="small"
          aria-label="The address of a record’s own page"
          placeholder="https://…/{1}, {1} for its key"
          :disabled="!mayEdit"
      /></label>
      <Button v-if="changed && mayEdit" size="small" class="keep" :loading="busy" @click="describe">Keep this</Button>
      <p v-if="changed" class="quiet small">Saves made before keep the name and parent they were made with.</p>
      <ProblemNote v-if="problem" :problem="problem" />
    </details>
  </section>
</template>

<style scoped>
.block {
  flex: none;
  padding: 12px 18px;
  border-bottom: 1px solid var(--line);
  font-size: 13px;
  display: grid;
  gap: 7px;
  max-height: 60%;
  overflow: auto;
}
.risk {
  color: var(--soft);
  font-size: 12px;
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
.row {
  display: grid;
  grid-template-columns: 116px 1fr;
  align-items: center;
  min-height: 24px;
}
details .row {
  margin-top: 6px;
}
summary {
  cursor: pointer;
  color: var(--pine);
}
.keep {
  margin-top: 8px;
}
.small {
  font-size: 12px;
}
</style>
