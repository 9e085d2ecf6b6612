<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { useQuery } from '@tanstack/vue-query'
import { useEventListener } from '@vueuse/core'
import { routes, type ProblemBody } from '@spoor/contract'
import { counted, dateText, runWords } from '@spoor/core'
import { computed, ref, toRef } from 'vue'
import { call, problemOf } from '../api/client.ts'
import SavePlace from '../custody/SavePlace.vue'
import SaveErasure from '../erasure/SaveErasure.vue'
import { useRevert } from '../corrections/revert.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { isWriting } from '../frame/writing.ts'
import { usePulse } from '../frame/pulse.ts'
import SaveReview from '../review/SaveReview.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { recordLink } from '../records/link.ts'
import { useSession } from '../session/session.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { fullTime, shortTime } from '../value/time.ts'
import { shownValue } from '../value/words.ts'
import FieldChange from './FieldChange.vue'

/** One save with everything known of it: read like a page, beside the list. */
export interface Props {
  saveId: string
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ close: []; open: [saveId: string]; marked: [] }>()

const session = useSession()
const pulse = usePulse()
const latest = computed(() => pulse.pulse?.latestSave)
const { data, error, refetch } = useQuery({
  queryKey: ['save', toRef(props, 'saveId'), latest],
  queryFn: () => call(routes.readSave, { params: { saveId: props.saveId } }),
  placeholderData: (before) => (before?.save.id === props.saveId ? before : undefined),
})
const detail = computed(() => data.value)
const guardLink = (guardId: number) => ({ path: '/watches/guards', query: { guard: String(guardId) } })
const save = computed(() => detail.value?.save)
const { draft, busy, problem } = useRevert()
const mayRevert = computed(
  () =>
    session.may('corrections.draft') &&
    (save.value?.action === 'delete' || save.value?.changes.some((change) => !change.erased) === true),
)
const revertWords = {
  create: 'Rehearse taking it back',
  change: 'Rehearse a revert',
  delete: 'Rehearse bringing it back',
}
const laterOf = (fieldId: number) => detail.value?.afterwards.find((one) => one.fieldId === fieldId)

function afterwardsWords(fieldId: number): string {
  const later = laterOf(fieldId)
  const latestChange = later?.latest
  if (!later || !latestChange) return ''
  const times = later.times === 1 ? 'Changed once more' : `Changed ${counted(later.times, 'time')} more, last`
  if (latestChange.action === 'delete')
    return `The record was deleted ${shortTime(latestChange.at)} by ${latestChange.actorName}.`
  return `${times} ${shortTime(latestChange.at)} by ${latestChange.actorName}${latestChange.backToBefore ? ', back to what it was before' : ''}.`
}

/** Fields that changed in this save and follow from no other that did, each with those that follow from it. */
const changed = computed(() => new Set(save.value?.changes.map((change) => change.fieldId)))
const causeOf = (fieldId: number) => props.names.causeAmong(fieldId, changed.value)
const causes = computed(() => (save.value?.changes ?? []).filter((change) => causeOf(change.fieldId) === undefined))
function rootOf(fieldId: number): number {
  const cause = causeOf(fieldId)
  return cause === undefined ? fieldId : rootOf(cause)
}
const effectsOf = (fieldId: number) =>
  (save.value?.changes ?? []).filter((one) => one.fieldId !== fieldId && rootOf(one.fieldId) === fieldId)
const reasonRule = computed(() => {
  const rules = (save.value?.changes ?? []).map((change) => props.names.plan(change.fieldId).reason)
  return rules.includes('required') ? 'required' : rules.includes('asked') ? 'asked' : 'never'
})

const context = computed(() => {
  const d = detail.value
  if (!d) return []
  return [
    ['came in by', [d.save.channel, d.applicationName, d.clientAddress].filter(Boolean).join(', ')],
    ['login', `${d.dbLogin} (${d.mayDeclare ? 'may declare who acts' : 'may not declare who acts'})`],
    ['on behalf of', d.save.onBehalfOf],
    [
      'reason',
      d.save.reason === null
        ? `none given${reasonRule.value === 'never' ? '' : `, though it is ${reasonRule.value}`}`
        : `“${d.save.reason}”`,
    ],
    [
      'transaction',
      d.savesInTransaction === 1 ? 'on its own' : `one of ${counted(d.savesInTransaction, 'save')} made together`,
    ],
    ['run', runWords(d.run.kind, d.run.declared, d.run.saves)],
    ['tracking plan', `version ${d.planVersion}`],
  ].filter((line): line is [string, string] => Boolean(line[1]))
})

const markProblem = ref<ProblemBody | null>(null)
async function mark(what: 'reviewed' | 'flagged') {
  const one = save.value
  if (!one) return
  try {
    await call(routes.markSaves, { body: { saveIds: [one.id], mark: what, on: !one.marks.includes(what) } })
    markProblem.value = null
    await refetch()
    emit('marked')
  } catch (caught) {
    markProblem.value = problemOf(caught)
  }
}

async function said() {
  await refetch()
  emit('marked')
}

/** The save as plain text, for a letter or a note. */
const copied = ref(false)
async function copy() {
  const [d, one] = [detail.value, save.value]
  if (!d || !one) return
  const shown = (value: string | null, change: (typeof one.changes)[number]) =>
    change.erased ? '(erased)' : change.masked ? '••••••' : shownValue(value, props.names.baseType(change.fieldId)).text
  const lines = [
    `${props.names.typeTitle(one.typeId)} ${one.label}, save ${one.id}`,
    `${one.actor.knownAs ?? one.actor.name}, ${fullTime(one.at)}`,
    ...one.changes.map(
      (change) =>
        `${props.names.fieldName(change.fieldId)}: ${shown(change.before, change)} → ${shown(change.after, change)}`,
    ),
    ...context.value.map(([name, value]) => `${name}: ${value}`),
  ]
  await navigator.clipboard.writeText(lines.join('\n'))
  copied.value = true
  setTimeout(() => (copied.value = false), 2000)
}

useEventListener('keydown', (event) => {
  if (isWriting(event.target)) return
  if (event.key === '[' && detail.value?.earlier) emit('open', detail.value.earlier)
  if (event.key === ']' && detail.value?.later) emit('open', detail.value.later)
  if (event.key === 'm' && !event.ctrlKey && !event.metaKey && session.may('changes.mark')) void mark('reviewed')
  if (event.key === 'r' && !event.ctrlKey && !event.metaKey && mayRevert.value)
    void draft({ changes: [{ saveId: props.saveId }] })
})
</script>

<template>
  <div v-if="error" class="pad"><ProblemNote :problem="problemOf(error)" /></div>
  <p v-else-if="!detail || !save" class="pad quiet">Opening …</p>
  <template v-else>
    <div class="head">
      <div class="line quiet">
        <span>{{ names.typeTitle(save.typeId) }} · save {{ save.id }}</span>
        <span class="space" />
        <button
          class="plain step"
          :disabled="!detail.earlier"
          title="Previous save of this record: ["
          @click="detail.earlier && emit('open', detail.earlier)"
        >
          ‹ earlier
        </button>
        <button
          class="plain step"
          :disabled="!detail.later"
          title="Next save of this record: ]"
          @click="detail.later && emit('open', detail.later)"
        >
          later ›
        </button>
        <button class="plain step" aria-label="Close the opened save" title="Close: Esc" @click="emit('close')">
          ✕
        </button>
      </div>
      <h2>
        <bdi>{{ save.label }}</bdi>
        <RouterLink v-if="$route.name !== 'record'" class="whole" :to="recordLink(save)">The whole story</RouterLink>
      </h2>
      <p>
        <ActorGlyph :kind="save.actor.kind" /> {{ save.actor.knownAs ?? save.actor.name
        }}<span v-if="save.actor.knownAs" class="quiet"> (then {{ save.actor.name }})</span
        ><span v-if="detail.nameThen" class="quiet"> (then {{ detail.nameThen }})</span
        ><span v-if="save.actor.unit" class="quiet">
          ({{ save.actor.unit }}{{ save.actor.leftOn ? `, left ${dateText(save.actor.leftOn)}` : '' }})</span
        ><span
          v-else-if="save.actor.kind !== 'unknown' && !save.actor.knownAs && save.channel !== 'correction'"
          class="attention"
        >
          (not in the directory)</span
        ><span v-if="save.actor.claimed" class="attention"> (claimed by an untrusted login)</span>,
        {{ fullTime(save.at) }}
      </p>
      <p v-if="save.parent" class="quiet">
        of {{ names.typeTitle(save.parent.typeId).toLowerCase() }}
        <RouterLink :to="{ path: '/changes', query: { record: `t${save.parent.typeId}:${save.parent.key}` } }"
          ><bdi>{{ save.parent.label }}</bdi></RouterLink
        >
      </p>
      <p v-if="save.correctionId">
        This carried out
        <RouterLink :to="`/corrections/${save.correctionId}`">correction {{ save.correctionId }}</RouterLink
        >.
      </p>
    </div>
    <div class="body">
      <p v-for="one in detail.guards" :key="one.guardId" class="pad attention">
        <template v-if="one.opening"
          >It passed by the guard
          <RouterLink :to="guardLink(one.guardId)"
            ><bdi>{{ one.name }}</bdi></RouterLink
          >, which {{ one.opening.by }} had opened until {{ shortTime(one.opening.until) }}:
          <bdi>{{ one.opening.reason }}</bdi></template
        ><template v-else
          >The guard
          <RouterLink :to="guardLink(one.guardId)"
            ><bdi>{{ one.name }}</bdi></RouterLink
          >
          would have refused it; it only warns.</template
        >
      </p>
      <p v-if="save.action === 'create'" class="pad"><b>The record was created</b> with these values.</p>
      <p v-if="save.action === 'delete'" class="pad"><b>The record was deleted</b>; these were its last values.</p>
      <p v-if="save.changes.length === 0" class="pad quiet">None of the tracked fields had a value.</p>
      <div v-for="change in causes" :key="change.fieldId" class="field">
        <FieldChange :change="change" :detail="detail" :names="names">
          <button
            v-if="mayRevert && save.action === 'change' && save.changes.length > 1 && !change.erased"
            class="plain step"
            :disabled="busy"
            @click="draft({ changes: [{ saveId: save.id, fieldId: change.fieldId }] })"
          >
            Rehearse this one
          </button>
        </FieldChange>
        <p v-if="change.revertedBy" class="after">
          Set back by
          <RouterLink :to="`/corrections/${change.revertedBy}`">correction {{ change.revertedBy }}</RouterLink
          >.
        </p>
        <p v-if="afterwardsWords(change.fieldId)" class="after">
          {{ afterwardsWords(change.fieldId) }}
          <button class="plain step" @click="emit('open', laterOf(change.fieldId)!.latest!.saveId)">Open it</button>
        </p>
        <p v-else-if="save.action === 'change'" class="after quiet">Not changed since.</p>
        <p v-if="detail.trackedSince[change.fieldId]" class="after quiet">
          Tracked since {{ shortTime(detail.trackedSince[change.fieldId]!) }}.
        </p>
        <details v-if="effectsOf(change.fieldId).length > 0" class="effects">
          <summary>
            Followed from it:
            {{
              effectsOf(change.fieldId)
                .map((one) => names.fieldName(one.fieldId))
                .join(', ')
            }}
          </summary>
          <FieldChange
            v-for="effect in effectsOf(change.fieldId)"
            :key="effect.fieldId"
            :change="effect"
            :detail="detail"
            :names="names"
          />
        </details>
      </div>
      <dl>
        <template v-for="[name, value] in context" :key="name">
          <dt>{{ name }}</dt>
          <dd>
            <bdi>{{ value }}</bdi>{{ ' ' }}
            <RouterLink
              v-if="name === 'transaction' && detail.savesInTransaction > 1"
              :to="{ path: '/changes', query: { how: `x${detail.save.id}` } }"
              >Show all of it</RouterLink
            >
            <RouterLink
              v-if="name === 'run' && detail.run.saves > 1 && detail.run.id !== null"
              :to="{ path: '/changes', query: { how: `r${detail.run.id}` } }"
              >Show all of it</RouterLink
            >
          </dd>
        </template>
      </dl>
      <SavePlace v-if="session.may('custody.read')" :save-id="saveId" />
      <SaveErasure v-if="session.may('custody.read')" :save="save" :names="names" @erased="said()" />
      <SaveReview
        v-if="session.may('review.read')"
        :key="saveId + save.marks.join()"
        :save-id="saveId"
        :whom="save.actor.knownAs ?? save.actor.name"
        @said="said"
      />
    </div>
    <div class="acts">
      <ProblemNote v-if="problem" :problem="problem" class="note" />
      <ProblemNote v-if="markProblem" :problem="markProblem" class="note" />
      <Button
        v-if="mayRevert"
        type="primary"
        :loading="busy"
        title="r"
        @click="draft({ changes: [{ saveId: save.id }] })"
        >{{ revertWords[save.action] }}</Button
      >
      <template v-if="session.may('changes.mark')">
        <Button title="m" @click="mark('reviewed')">{{
          save.marks.includes('reviewed') ? 'Not reviewed after all' : 'Mark reviewed'
        }}</Button>
        <Button @click="mark('flagged')">{{ save.marks.includes('flagged') ? 'Take the flag off' : 'Flag' }}</Button>
      </template>
      <Button @click="copy">{{ copied ? 'Copied' : 'Copy as text' }}</Button>
    </div>
  </template>
</template>

<style scoped>
.pad {
  padding: 13px 18px;
}
.head {
  flex: none;
  padding: 13px 18px 11px;
  border-bottom: 1px solid var(--line);
}
.line {
  display: flex;
  gap: 12px;
  align-items: baseline;
  font-size: 12.5px;
}
.space {
  flex: 1;
}
.step {
  color: var(--pine);
  white-space: nowrap;
}
.step:disabled {
  color: var(--faint);
  cursor: default;
}
h2 .whole {
  font-size: 12.5px;
  font-weight: 400;
  margin-left: 8px;
  white-space: nowrap;
}
h2 {
  font-size: 17px;
  line-height: 22px;
  font-weight: 650;
  overflow-wrap: anywhere;
}
.body {
  flex: 1;
  overflow: auto;
  min-height: 0;
}
.field {
  padding: 7px 18px;
  border-bottom: 1px solid var(--line-soft);
}
.effects {
  margin: 4px 0 0 14px;
  padding-left: 10px;
  border-left: 2px solid var(--line);
}
summary {
  cursor: pointer;
  font-size: 12.5px;
  color: var(--soft);
}
.after {
  font-size: 12.5px;
  margin-top: 2px;
}
dl {
  display: grid;
  grid-template-columns: 104px 1fr;
  row-gap: 1px;
  padding: 9px 18px;
  font-size: 13px;
}
dt {
  color: var(--soft);
}
dd {
  overflow-wrap: anywhere;
}
.acts {
  flex: none;
  padding: 10px 18px;
  border-top: 1px solid var(--line);
  display: flex;
  flex-wrap: wrap;
  gap: 9px;
}
.note {
  flex-basis: 100%;
}
</style>
