<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import InputNumber from 'ant-design-vue/es/input-number'
import Progress from 'ant-design-vue/es/progress'
import { useQuery } from '@tanstack/vue-query'
import { routes, type DraftCost, type ProblemBody, type SourceMap, type TypeRehearsal } from '@spoor/contract'
import { capitalised, counted, grouped } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { shortTime } from '../value/time.ts'
import { draftLines } from './plan-names.ts'
import { stagedPlanRules, withPlanRules, type useTracking } from './draft.ts'

/** What is staged, in words, with what it will cost, and putting it in force. */
export interface Props {
  tracking: ReturnType<typeof useTracking>
  source: SourceMap
  mayEdit: boolean
  problem: ProblemBody | null
}
const props = defineProps<Props>()
const session = useSession()

const reason = ref('')
const sql = ref<string | null>(null)
const askProblem = ref<ProblemBody | null>(null)
const rehearsal = ref<readonly TypeRehearsal[] | null>(null)
const rehearsing = ref(false)
const busy = computed(() => props.tracking.busy.value)
const progress = computed(() => props.tracking.progress.value)
const params = computed(() => ({ sourceId: String(props.source.id) }))
const lines = computed(() => draftLines(props.source))
const draft = computed(() => props.source.draft)
const mine = computed(() => draft.value.proposed?.byId === session.person?.id)
const mayForce = computed(
  () =>
    session.may('tracking.approve') &&
    (draft.value.proposed ? !mine.value || !props.source.secondPerson : props.mayEdit && !props.source.secondPerson),
)
const mayPropose = computed(() => props.mayEdit && draft.value.proposed === null)

const { data: cost } = useQuery({
  queryKey: ['draft-cost', computed(() => props.source.id), computed(() => draft.value.revision)],
  queryFn: () => call(routes.costDraft, { params: params.value }),
  enabled: computed(() => lines.value.length > 0),
})
watch(
  () => draft.value.revision,
  () => ((sql.value = null), (rehearsal.value = null)),
)
watch(
  () => props.source.planVersion,
  () => (reason.value = ''),
)

const perDay = (n: number) => (n > 0 && n < 1 ? 'under 1' : grouped(Math.round(n)))
const monthDays = 30
function size(bytesPerDay: number): string {
  const mb = (bytesPerDay * monthDays) / 1e6
  if (mb === 0) return '0 MB'
  return mb < 1 ? 'under 1 MB' : `${grouped(Math.round(mb))} MB`
}
/** Once, and in the background. */
function once({ bytes, seconds }: NonNullable<DraftCost['found']>): string {
  const time = seconds < 60 ? 'under a minute' : `about ${grouped(Math.ceil(seconds / 60))} min`
  return `${size(bytes / monthDays)}, ${time}`
}
const typeName = (typeId: number) =>
  props.source.types.find((type) => type.id === typeId)?.name ?? `record type ${typeId}`
function added(one: TypeRehearsal): string {
  if (one.plainMs === null || one.trackedMs === null) return one.why ?? 'not tried'
  const by = one.trackedMs - one.plainMs
  return `${by < 0 ? '−' : '+'}${Math.abs(by).toFixed(2)} ms`
}

async function ask<T>(work: () => Promise<T>): Promise<T | null> {
  askProblem.value = null
  try {
    return await work()
  } catch (error) {
    askProblem.value = problemOf(error)
    return null
  }
}
async function showSql() {
  sql.value =
    sql.value === null ? ((await ask(() => call(routes.previewDraft, { params: params.value })))?.sql ?? null) : null
}
async function rehearse() {
  rehearsing.value = true
  rehearsal.value = (await ask(() => call(routes.rehearseDraft, { params: params.value })))?.types ?? null
  rehearsing.value = false
}
async function send() {
  const done = mayForce.value
    ? await props.tracking.putInForce(props.source, reason.value)
    : await props.tracking.propose(props.source, reason.value)
  if (done) reason.value = ''
}
async function back() {
  if (await props.tracking.sendBack(props.source, reason.value)) reason.value = ''
}
/** Typed digit by digit, staged when it is typed. */
const above = ref<number | string>('')
watch(
  () => stagedPlanRules(props.source).correctionsAbove,
  (now) => (above.value = now ?? ''),
  { immediate: true },
)
function stageAbove() {
  const wanted = typeof above.value === 'number' ? above.value : null
  if (wanted === stagedPlanRules(props.source).correctionsAbove) return
  void props.tracking.stage(props.source.id, (now) => withPlanRules(now, { correctionsAbove: wanted }))
}
</script>

<template>
  <div class="draft">
    <template v-if="lines.length > 0">
      <h3>Draft for plan {{ source.planVersion + 1 }} · {{ counted(lines.length, 'change') }}</h3>
      <p v-if="draft.proposed" class="attention">
        {{ mine ? 'You' : draft.proposed.by }} asked for a second person {{ shortTime(draft.proposed.at) }}: “{{
          draft.proposed.reason
        }}”
      </p>
      <p v-else-if="draft.sentBack" class="attention">
        {{ draft.sentBack.by }} sent it back {{ shortTime(draft.sentBack.at) }}: “{{ draft.sentBack.why }}”
      </p>
      <p v-else-if="draft.by && draft.at" class="quiet">Last staged by {{ draft.by }}, {{ shortTime(draft.at) }}.</p>
      <ul class="lines">
        <li v-for="line in lines" :key="line.id">
          <span>{{ line.name }}</span> <span class="quiet">{{ line.words }}</span>
        </li>
      </ul>
      <h3>What it will cost</h3>
      <ul v-if="cost">
        <li>
          <span>saves a day</span>
          <span class="mono">{{ perDay(cost.now.savesPerDay) }} → {{ perDay(cost.then.savesPerDay) }}</span>
        </li>
        <li>
          <span>ledger a month</span>
          <span class="mono">{{ size(cost.now.bytesPerDay) }} → {{ size(cost.then.bytesPerDay) }}</span>
        </li>
        <li v-if="cost.found && cost.found.records > 0">
          <span>taken in once as found: about {{ counted(cost.found.records, 'record') }}</span>
          <span class="mono">{{ once(cost.found) }}</span>
        </li>
        <template v-if="rehearsal">
          <li v-for="one in rehearsal" :key="one.typeId">
            <span
              >writing a {{ typeName(one.typeId)
              }}<template v-if="one.rows > 0"> (tried {{ counted(one.rows, 'time') }})</template></span
            >
            <span class="mono">{{ added(one) }}</span>
          </li>
          <li v-if="rehearsal.length === 0" class="quiet">The draft changes nothing that is captured.</li>
        </template>
      </ul>
      <p v-if="cost" class="quiet small">
        <template v-if="cost.from && cost.to"
          >From what the source counted {{ shortTime(cost.from) }} to {{ shortTime(cost.to) }}, at most.</template
        ><template v-else>The source was looked at only once; its counts come with the next look.</template>
        <template v-if="!cost.measured"> Bytes are assumed until the ledger holds more.</template>
        <template v-if="cost.unknown.length > 0"> Not counted yet: {{ cost.unknown.join(', ') }}.</template>
      </p>
      <p v-else class="quiet">Working it out …</p>
    </template>
    <template v-else>
      <h3>Nothing is staged</h3>
      <p class="quiet">
        Pick fields on the map, by pressing, dragging over or with the arrow keys, and say how they are kept. Nothing
        changes in the source until the draft is put in force.
      </p>
      <Checkbox
        v-if="mayEdit && source.inForceSince"
        :checked="stagedPlanRules(source).secondPerson"
        @change="
          tracking.stage(source.id, (now) =>
            withPlanRules(now, { secondPerson: !stagedPlanRules(source).secondPerson }),
          )
        "
        >Changes of the plan take a second person</Checkbox
      >
      <p v-if="mayEdit && source.inForceSince" class="above">
        <label for="above">Corrections take one above</label>
        <InputNumber
          id="above"
          v-model:value="above"
          :min="0"
          :max="1_000_000"
          :precision="0"
          placeholder="any number"
          size="small"
          @blur="stageAbove"
          @press-enter="stageAbove"
        />
        <span>records</span>
      </p>
    </template>
    <ProblemNote v-if="problem" :problem="problem"
      ><button class="plain link" @click="tracking.forget()">Hide this</button></ProblemNote
    >
    <ProblemNote v-if="askProblem" :problem="askProblem" />
    <pre v-if="sql !== null" class="mono sql" tabindex="0" aria-label="SQL of the draft">{{ sql }}</pre>
  </div>
  <div v-if="busy && progress?.doing" class="foot" role="status">
    <p>{{ capitalised(progress.doing) }} …</p>
    <Progress :percent="progress.of > 0 ? Math.round((100 * progress.done) / progress.of) : 0" size="small" />
    <Button size="small" @click="tracking.stop(source)">Stop; leave the source as it is</Button>
  </div>
  <form v-else-if="lines.length > 0 && (mayEdit || mayForce)" class="foot" @submit.prevent="send">
    <Input
      v-model:value="reason"
      :placeholder="
        draft.proposed && mayForce ? 'A word on it (kept with the plan)' : 'Why is this changed? (kept with the plan)'
      "
      aria-label="Reason"
    />
    <div class="buttons">
      <Button
        v-if="mayForce || mayPropose"
        type="primary"
        html-type="submit"
        :loading="busy"
        :disabled="busy || reason.trim().length < 3"
        >{{ mayForce ? 'Put in force' : 'Ask a second person' }}</Button
      >
      <Button v-if="draft.proposed && !mine && mayForce" :disabled="reason.trim().length < 3" @click="back"
        >Send back</Button
      >
      <Button
        :loading="rehearsing"
        title="Writes copies of real rows with and without the triggers, rolled back"
        @click="rehearse"
        >Try the cost</Button
      >
      <Button @click="showSql">{{ sql === null ? 'Show the SQL' : 'Hide the SQL' }}</Button>
      <Button v-if="mayEdit" :disabled="busy" @click="tracking.stage(source.id, () => [])">Discard</Button>
    </div>
  </form>
</template>

<style scoped>
.above {
  display: flex;
  align-items: center;
  gap: 8px;
  margin-top: 6px;
}
.draft {
  flex: 1;
  overflow: auto;
  min-height: 0;
  padding: 12px 18px;
  font-size: 13px;
  background: var(--ground);
}
h3 {
  font-size: 15px;
  font-weight: 650;
  margin: 0 0 4px;
}
ul + h3,
.lines + h3 {
  margin-top: 12px;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  padding: 2px 0;
}
li > :last-child {
  text-align: right;
}
.small {
  font-size: 12px;
  line-height: 16px;
}
.sql {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 11.5px;
  line-height: 16px;
  background: var(--panel);
  padding: 8px;
  margin: 10px 0 0;
}
.foot {
  flex: none;
  padding: 12px 18px;
  border-top: 1px solid var(--line);
}
.buttons {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  margin-top: 9px;
}
.link {
  color: var(--pine);
  text-decoration: underline;
  display: block;
}
</style>
