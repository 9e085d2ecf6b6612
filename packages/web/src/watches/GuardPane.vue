<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import InputNumber from 'ant-design-vue/es/input-number'
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { routes, type GuardBody, type GuardLine } from '@spoor/contract'
import { actorKinds, counted, guardSentence, listed, type Guard, type GuardAct } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PickList from '../frame/PickList.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useVocabularyQuery } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { withGuard } from '../tracking/draft.ts'
import { shortTime } from '../value/time.ts'
import { nothing, testsOf, useGuardForm, type Hours, type Whom } from './guard-form.ts'
import GuardMet from './GuardMet.vue'
import GuardOpenings from './GuardOpenings.vue'
import WatchStrip from './WatchStrip.vue'
import WeekdayChecks from './WeekdayChecks.vue'

/** A guard being made or changed, tried on the past while it is; and what it has met. */
export interface Props {
  line: GuardLine | null
}
const props = defineProps<Props>()
const emit = defineEmits<{ kept: [guardId: number | null]; close: [] }>()
const session = useSession()
const cache = useQueryClient()
const mayEdit = computed(() => session.may('tracking.edit'))
const { data: vocabulary } = useVocabularyQuery()
const { form, guard, missing, unnamed } = useGuardForm(
  (props.line?.guard as Guard | undefined) ?? null,
  baseTypeOf,
  nameOf,
)
const typeId = ref<number | null>(props.line?.typeId ?? null)

const tracked = computed(() => (vocabulary.value?.fields ?? []).filter((field) => field.tracked))
const types = computed(() => {
  const with_ = new Set(tracked.value.map((field) => field.typeId))
  return (vocabulary.value?.types ?? [])
    .filter((type) => with_.has(type.id))
    .map(({ id, plural }) => ({ value: id, label: plural }))
    .sort((a, b) => a.label.localeCompare(b.label))
})
const own = computed(() => tracked.value.filter((field) => field.typeId === typeId.value))
const whole = 0
const fieldOptions = computed(() => [
  { value: whole, label: 'the record as a whole' },
  ...own.value.map(({ id, name }) => ({ value: id, label: name })),
])
/** Fields of the record whose line it is, which it may ask of as well. */
const above = computed(() => {
  const parent = vocabulary.value?.types.find((type) => type.id === typeId.value)?.parentTypeId ?? null
  const name = vocabulary.value?.types.find((type) => type.id === parent)?.name ?? ''
  return tracked.value
    .filter((one) => parent !== null && one.typeId === parent && !one.fingerprint)
    .map(({ id, name: of }) => ({ value: id, label: `where ${of} of its ${name}` }))
})
const heldOptions = computed(() => [
  { value: whole, label: 'whatever else it holds' },
  ...own.value.filter((field) => !field.fingerprint).map(({ id, name }) => ({ value: id, label: `where ${name}` })),
  ...above.value,
])
const field = computed(() => own.value.find((one) => one.id === form.fieldId))
const tests = computed(() => testsOf(field.value))
watch(tests, (now) => {
  if (now.length > 0 && !now.some(({ value }) => value === form.test)) form.test = 'any'
})
function setType(value: unknown) {
  typeId.value = Number(value)
  form.fieldId = null
  form.heldId = null
}
function setField(value: unknown) {
  form.fieldId = Number(value) || null
  if (form.fieldId !== null) form.acts = form.acts.filter((act) => act !== 'delete')
  if (form.acts.length === 0) form.acts = ['change']
}
const acts: readonly { value: GuardAct; label: string }[] = [
  { value: 'create', label: 'created' },
  { value: 'change', label: 'changed' },
  { value: 'delete', label: 'deleted' },
]
const toggleAct = (act: GuardAct) =>
  (form.acts = form.acts.includes(act) ? form.acts.filter((one) => one !== act) : [...form.acts, act])
const whomOptions: { value: Whom; label: string }[] = [
  { value: 'all', label: 'by whomever' },
  { value: 'these', label: 'by one of these' },
  { value: 'others', label: 'by anybody but' },
]
const hoursOptions: { value: Hours; label: string }[] = [
  { value: 'always', label: 'at any time' },
  { value: 'within', label: 'in these hours' },
  { value: 'outside', label: 'outside these hours' },
]
const nothingOption = [{ value: nothing, label: nothing }]
const tagged = (texts: readonly string[]) => texts.map((text) => ({ value: text, label: text }))
const actorOptions = computed(() =>
  tagged([...new Set((vocabulary.value?.actors ?? []).filter((one) => one.kind !== 'unknown').map((one) => one.name))]),
)

const plural = computed(() => types.value.find((type) => type.value === typeId.value)?.label ?? 'records')
function nameOf(fieldId: number): string {
  const name =
    own.value.find((one) => one.id === fieldId)?.name ??
    above.value.find((one) => one.value === fieldId)?.label.replace(/^where /, '') ??
    `field ${fieldId}`
  return fieldId === form.fieldId ? `${name} of ${plural.value}` : name
}
function baseTypeOf(fieldId: number): string {
  return tracked.value.find((one) => one.id === fieldId)?.baseType ?? 'text'
}
const sentence = computed(() => guardSentence(guard.value, plural.value, nameOf))

const settledMs = 400
const tried = refDebounced(
  computed(() =>
    typeId.value === null || missing.value !== null ? null : { typeId: typeId.value, guard: guard.value },
  ),
  settledMs,
)
const asked = computed(() => {
  if (tried.value === null) return null
  // What it is called changes nothing of what it meets.
  return { typeId: tried.value.typeId, guard: { ...tried.value.guard, name: 'tried', words: 'tried', mode: 'warn' } }
})
const {
  data: trial,
  error: trialError,
  isFetching,
} = useQuery({
  queryKey: ['guard-trial', asked],
  queryFn: ({ signal }) =>
    call(routes.tryGuard, {
      params: { typeId: String(asked.value!.typeId) },
      body: { guard: asked.value!.guard as GuardBody },
      signal,
    }),
  enabled: computed(() => asked.value !== null),
  placeholderData: keepPreviousData,
})
const trialWords = computed(() => {
  const { times = 0, by: who = [], standing = 0, unknown = 0, cut = false } = trial.value ?? {}
  const more = [
    ...(unknown > 0 ? [`Of ${counted(unknown, 'save')} nobody knows what the other field held.`] : []),
    ...(cut ? ['There are more saves than were looked through.'] : []),
  ]
  if (times === 0) return ['It would have met nothing.', ...more].join(' ')
  const named = 3
  const whom =
    who.length === 1
      ? `, all by ${who[0]!.name}`
      : `: ${listed(who.slice(0, named).map((one) => `${counted(one.times, 'save')} by ${one.name}`))}`
  const left = standing === 0 ? 'None of them stands any more.' : `${standing} of them still stand as they were saved.`
  return [`It would have met ${counted(times, 'save')}${whom}. ${left}`, ...more].join(' ')
})

const { busy, problem, doing } = useDoing()
const stage = (wish: Guard | null) =>
  doing(async () => {
    const id = props.line?.id ?? (await call(routes.newGuard, { params: { typeId: String(typeId.value) } })).guardId
    const { sources } = await call(routes.readTracking)
    const source = sources.find((one) => one.types.some((type) => type.id === typeId.value))!
    await call(routes.stageEdits, {
      params: { sourceId: String(source.id) },
      body: { revision: source.draft.revision, edits: withGuard(source.draft.edits, typeId.value!, id, wish) },
    })
    await cache.invalidateQueries({ queryKey: ['tracking'] })
    emit('kept', wish === null && props.line?.standing === 'draft' ? null : id)
  })
</script>

<template>
  <form class="pane" :aria-label="line ? `Guard ${line.id}` : 'A new guard'" @submit.prevent="stage(guard)">
    <div class="part said">
      <p>
        <bdi>{{ typeId === null ? 'Choose what kind of record it guards.' : sentence }}</bdi>
      </p>
      <button type="button" class="plain close" aria-label="Close" @click="emit('close')">×</button>
    </div>
    <fieldset class="part" :disabled="!mayEdit">
      <legend>what</legend>
      <p v-if="line">{{ plural }}</p>
      <PickList
        v-else
        :value="typeId ?? undefined"
        :options="types"
        show-search
        option-filter-prop="label"
        placeholder="Which records"
        aria-label="Which records it guards"
        size="small"
        @change="setType"
      />
      <template v-if="typeId !== null">
        <PickList
          :value="form.fieldId ?? whole"
          :options="fieldOptions"
          show-search
          option-filter-prop="label"
          aria-label="Which field"
          size="small"
          @change="setField"
        />
        <span class="line"
          >when it is
          <Checkbox
            v-for="one in acts"
            :key="one.value"
            :checked="form.acts.includes(one.value)"
            :disabled="one.value === 'delete' && form.fieldId !== null"
            @change="toggleAct(one.value)"
            >{{ one.label }}</Checkbox
          >
        </span>
        <PickList
          v-if="form.fieldId !== null"
          v-model:value="form.test"
          :options="tests"
          aria-label="To which value"
          size="small"
        />
        <PickList
          v-if="form.fieldId !== null && ['from', 'to', 'to-other'].includes(form.test)"
          v-model:value="form.values"
          mode="tags"
          :options="nothingOption"
          aria-label="Which values"
          placeholder="Values, each with Enter"
          size="small"
        />
        <span v-if="form.fieldId !== null && form.test === 'outside'" class="line"
          >least <Input v-model:value="form.least" size="small" class="number" aria-label="The least" /> most
          <Input v-model:value="form.most" size="small" class="number" aria-label="The most" />
        </span>
        <span v-if="form.fieldId !== null && (form.test === 'rises' || form.test === 'falls')" class="line">
          <Input v-model:value="form.by" size="small" class="number" aria-label="By more than" />
          <Checkbox v-model:checked="form.share">per cent of what it was</Checkbox>
        </span>
        <PickList
          :value="form.heldId ?? whole"
          :options="heldOptions"
          show-search
          option-filter-prop="label"
          aria-label="Where another field"
          size="small"
          @change="(value: unknown) => (form.heldId = Number(value) || null)"
        />
        <span v-if="form.heldId !== null" class="line held">
          <PickList
            :value="form.heldOther ? 'not' : 'is'"
            :options="[
              { value: 'is', label: 'was one of' },
              { value: 'not', label: 'was none of' },
            ]"
            aria-label="Was or was not"
            size="small"
            @change="(value: unknown) => (form.heldOther = value === 'not')"
          />
          <PickList
            v-model:value="form.heldValues"
            mode="tags"
            :options="nothingOption"
            aria-label="Which values of the other field"
            placeholder="Values, each with Enter"
            size="small"
          />
        </span>
      </template>
    </fieldset>
    <fieldset v-if="typeId !== null" class="part" :disabled="!mayEdit">
      <legend>by whom, when</legend>
      <PickList v-model:value="form.whom" :options="whomOptions" aria-label="By whom" size="small" />
      <template v-if="form.whom !== 'all'">
        <PickList
          v-model:value="form.actors"
          mode="tags"
          :options="actorOptions"
          option-filter-prop="label"
          aria-label="People and processes"
          placeholder="People and processes"
          size="small"
        />
        <PickList
          v-model:value="form.channels"
          mode="tags"
          :options="tagged(vocabulary?.channels ?? [])"
          aria-label="By way of"
          placeholder="By way of any channel"
          size="small"
        />
        <PickList
          v-model:value="form.kinds"
          mode="multiple"
          :options="tagged(actorKinds)"
          aria-label="Kinds of actor"
          placeholder="Of any kind"
          size="small"
        />
        <PickList
          v-model:value="form.logins"
          mode="tags"
          :options="[]"
          aria-label="Database logins"
          placeholder="Through any login of the database"
          size="small"
        />
        <p class="quiet">
          Who acts is what the application says, where its login may say so; anybody else is nobody to a guard.
        </p>
      </template>
      <PickList v-model:value="form.hours" :options="hoursOptions" aria-label="At which times" size="small" />
      <span v-if="form.hours !== 'always'" class="line">
        <WeekdayChecks v-model:days="form.days" />
        <Input v-model:value="form.from" type="time" size="small" class="time" aria-label="From" /> to
        <Input v-model:value="form.to" type="time" size="small" class="time" aria-label="To" />
        <span class="quiet">{{ guard.zone }}</span>
      </span>
      <Checkbox v-model:checked="form.withoutReason">only where no reason is given</Checkbox>
      <span class="line"
        >only where one statement writes more records than
        <InputNumber
          v-model:value="form.above as never"
          :min="1"
          :max="1000000000"
          :precision="0"
          size="small"
          placeholder="any"
          aria-label="More records at once than"
        />
      </span>
    </fieldset>
    <fieldset v-if="typeId !== null" class="part" :disabled="!mayEdit">
      <legend>says</legend>
      <Input
        v-model:value="form.name"
        size="small"
        aria-label="Name of the guard"
        placeholder="What the guard is called"
      />
      <Input.TextArea
        v-model:value="form.words"
        :rows="2"
        aria-label="What whoever is refused reads"
        placeholder="What whoever is refused reads"
      />
      <PickList
        v-model:value="form.mode"
        :options="[
          { value: 'warn', label: 'only warns: it lets everything through and counts' },
          { value: 'refuse', label: 'refuses' },
        ]"
        aria-label="Warns or refuses"
        size="small"
      />
    </fieldset>
    <section v-if="typeId !== null" class="part" aria-label="Tried on the past year" :aria-busy="isFetching">
      <h2>tried on the past year</h2>
      <p v-if="missing" class="quiet">{{ missing }}</p>
      <ProblemNote v-else-if="trialError" :problem="problemOf(trialError)" />
      <p v-else-if="!trial" class="quiet">Looking …</p>
      <template v-else>
        <p>{{ trialWords }}</p>
        <WatchStrip :fired="line?.strip ?? []" :would="trial.strip" :words="trialWords" />
        <ul>
          <li v-for="one in trial.last" :key="one.saveId" class="quiet">
            <RouterLink :to="{ path: '/changes', query: { save: one.saveId } }">{{ shortTime(one.at) }}</RouterLink>,
            <bdi>{{ one.label }}</bdi>, <bdi>{{ one.actor }}</bdi>{{ one.stands ? ', still stands' : '' }}
          </li>
        </ul>
      </template>
    </section>
    <GuardMet v-if="line" :line="line" class="part" />
    <GuardOpenings v-if="line" :line="line" :actors="actorOptions" class="part" @changed="emit('kept', line.id)" />
    <ProblemNote v-if="problem" :problem="problem" />
    <footer>
      <template v-if="mayEdit && typeId !== null">
        <Button
          type="primary"
          html-type="submit"
          :loading="busy"
          :disabled="missing !== null || unnamed !== null"
          title="It holds once the draft of the tracking plan is in force"
          >Stage in the draft</Button
        >
        <Button v-if="line" :loading="busy" @click="stage(null)">Stage taking it away</Button>
      </template>
      <span v-if="mayEdit && typeId !== null" class="quiet" role="status">{{ missing ?? unnamed ?? '' }}</span>
    </footer>
  </form>
</template>

<style scoped>
.number {
  width: 96px;
}
.line.held {
  display: grid;
  grid-template-columns: 120px minmax(0, 1fr);
}
</style>
<style scoped src="./pane.css"></style>
