<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type Proof, type ProblemBody, type TypeCoverage } from '@spoor/contract'
import { capitalised, counted } from '@spoor/core'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SplitPane from '../frame/SplitPane.vue'
import { useSession } from '../session/session.ts'
import { dayOnly, fullTime, shortTime } from '../value/time.ts'
import BlindSpots from './BlindSpots.vue'
import { useTracking } from './draft.ts'
import TrackingFrame from './TrackingFrame.vue'

/** For each field the spells in which it was tracked, drawn over time, and the proof that it records. */
const session = useSession()
const route = useRoute()
const router = useRouter()
const cache = useQueryClient()
const tracking = useTracking()
const { source } = tracking
const types = computed(() => (source.value?.types ?? []).filter((type) => type.obstacle === null))
const open = computed(
  () =>
    types.value.find((type) => String(type.id) === route.query['type']) ??
    types.value.find((type) => type.savesPerDay !== null) ??
    types.value[0],
)
const show = (typeId: number) => void router.replace({ query: { type: String(typeId) } })
const { data: coverage } = useQuery({
  queryKey: [
    'coverage',
    computed(() => open.value?.id),
    computed(() => source.value?.planVersion),
    computed(() => source.value?.proof?.id),
  ],
  queryFn: () => call(routes.readCoverage, { params: { typeId: String(open.value!.id) } }),
  enabled: computed(() => open.value !== undefined),
})
const { data: lastProof } = useQuery({
  queryKey: ['proof', computed(() => source.value?.proof?.id)],
  queryFn: () => call(routes.readProof, { params: { proofId: String(source.value!.proof!.id) } }),
  enabled: computed(() => Boolean(source.value?.proof)),
})
const proof = computed<Proof | undefined>(() => (source.value?.proof ? lastProof.value : undefined))
const unproven = computed(() => (proof.value?.fields ?? []).filter((field) => field.outcome !== 'recorded'))
const fieldName = (typeId: number, fieldId: number) => {
  const type = source.value?.types.find((one) => one.id === typeId)
  return `${capitalised(type?.name ?? `record type ${typeId}`)} · ${type?.fields.find((field) => field.id === fieldId)?.name ?? `field ${fieldId}`}`
}

const proving = ref(false)
const problem = ref<ProblemBody | null>(null)
async function prove() {
  proving.value = true
  problem.value = null
  try {
    const result = await call(routes.proveRecording, { params: { sourceId: String(source.value!.id) } })
    cache.setQueryData(['proof', result.id], result)
    await tracking.refetch()
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    proving.value = false
  }
}

type Field = TypeCoverage['fields'][number]
const nowMs = Date.now()
const fromMs = computed(() => Date.parse(coverage.value?.from ?? new Date(nowMs - 86_400_000).toISOString()))
/** A tenth of the width stands for the time before coverage, which is unknown. */
const before = 8
const place = (at: string) =>
  before + ((Date.parse(at) - fromMs.value) / Math.max(1, nowMs - fromMs.value)) * (100 - before)
function bars(field: Field) {
  return field.spells.map((spell) => {
    const left = place(spell.from)
    const right = spell.to === null ? 100 : place(spell.to)
    return {
      left,
      width: Math.max(0.3, right - left),
      fingerprint: spell.keep === 'fingerprint',
      title: `${spell.keep}, ${fullTime(spell.from)} to ${spell.to ? fullTime(spell.to) : 'now'}`,
    }
  })
}
/** Spells between two spells of coverage, drawn no narrower than the eye needs. */
function gaps(field: Field) {
  return field.spells.flatMap((spell, at) => {
    const next = field.spells[at + 1]
    if (!next || spell.to === null || next.from === spell.to) return []
    const width = Math.max(0.8, place(next.from) - place(spell.to))
    return [
      {
        left: place(spell.to),
        width,
        words: `${shortTime(spell.to)} to ${shortTime(next.from)}${spell.endedBecause ? `: ${spell.endedBecause}` : ''}`,
      },
    ]
  })
}
const shownFields = computed(() =>
  (coverage.value?.fields ?? []).flatMap((one) => {
    const field = open.value?.fields.find((other) => other.id === one.fieldId)
    return field || one.spells.length > 0
      ? [{ ...one, name: field?.name ?? `field ${one.fieldId}, no longer in the source` }]
      : []
  }),
)
const allGaps = computed(() =>
  shownFields.value.flatMap((field) => gaps(field).map((gap) => `${field.name}, ${gap.words}`)),
)
const pace = (perDay: number) =>
  perDay === 0 ? '' : perDay < 1 ? `${(perDay * 7).toFixed(1)} a week` : `${perDay.toFixed(perDay < 10 ? 1 : 0)} a day`
</script>

<template>
  <TrackingFrame :tracking="tracking" @connect="router.push('/tracking')">
    <SplitPane v-if="source" name="coverage" label="proof and blind spots" open :width="372">
      <div class="page">
        <ul class="types" aria-label="Record types">
          <li v-for="type in types" :key="type.id">
            <button class="plain" :class="{ on: type.id === open?.id }" @click="show(type.id)">
              {{ capitalised(type.name) }}
              <span class="quiet"
                >{{ type.fields.filter((field) => field.keep !== 'off').length }} of {{ type.fields.length }}</span
              >
            </button>
          </li>
        </ul>
        <div v-if="open && coverage" class="lanes">
          <h2>{{ capitalised(open.name) }}</h2>
          <p v-if="coverage.from" class="quiet">
            First tracked {{ fullTime(coverage.from) }}. Tracking never works backwards: what was there before is
            unknown.
          </p>
          <p v-else class="quiet">Never tracked. What changed here is unknown.</p>
          <p v-if="allGaps.length > 0" class="attention"><b>Not on the trail:</b> {{ allGaps.join('; ') }}.</p>
          <div v-if="coverage.from" class="axis quiet">
            <span :style="{ left: `${before}%` }">{{ dayOnly(coverage.from) }}</span><span class="end">now</span>
          </div>
          <div class="table" role="table" :aria-label="`Coverage of ${open.plural}`">
            <div v-for="field in shownFields" :key="field.fieldId" class="lane" role="row">
              <span class="name" role="cell">{{ field.name }}</span>
              <span class="track" role="cell">
                <span v-if="field.spells.length === 0" class="none quiet">not tracked</span>
                <i
                  v-if="field.spells[0]"
                  class="unknown"
                  :style="{ width: `${place(field.spells[0].from)}%` }"
                  title="Not tracked yet: unknown"
                />
                <i
                  v-for="bar in bars(field)"
                  :key="bar.left"
                  class="bar"
                  :class="{ fingerprint: bar.fingerprint }"
                  :style="{ left: `${bar.left}%`, width: `${bar.width}%` }"
                  :title="bar.title"
                />
                <i
                  v-for="gap in gaps(field)"
                  :key="gap.left"
                  class="gap"
                  :style="{ left: `${gap.left}%`, width: `${gap.width}%` }"
                  :title="`Not captured ${gap.words}`"
                />
                <span class="visually-hidden">{{
                  bars(field)
                    .map((bar) => bar.title)
                    .join('; ')
                }}</span>
              </span>
              <span class="figure mono" role="cell">{{ pace(field.changesPerDay) }}</span>
              <span class="figure quiet" role="cell">{{
                field.lastChange ? `last ${dayOnly(field.lastChange)}` : ''
              }}</span>
              <span
                class="figure"
                :class="{ attention: field.proof?.outcome === 'missed', quiet: field.proof?.outcome === 'untried' }"
                role="cell"
                :title="field.proof ? `${field.proof.words} ${fullTime(field.proof.at)}` : ''"
                >{{
                  field.proof ? { recorded: 'proved', missed: 'missed', untried: 'not tried' }[field.proof.outcome] : ''
                }}</span
              >
            </div>
          </div>
          <p class="key quiet">
            <i class="bar" /> values <i class="bar fingerprint" /> fingerprint <i class="unknown" /> not tracked yet
            <i class="gap" /> a gap
          </p>
        </div>
      </div>
      <template #pane>
        <div class="pane">
          <section>
            <h3>Proof that it records</h3>
            <p v-if="proof">
              {{ fullTime(proof.at) }}, by {{ proof.by }}, plan {{ proof.planVersion }}:
              <b>{{ counted(proof.recorded, 'field') }} recorded</b
              ><template v-if="proof.missed > 0"
                >, <b class="failure">{{ proof.missed }} missed</b></template
              ><template v-if="proof.untried > 0">, {{ proof.untried }} could not be tried</template>.
            </p>
            <p v-else class="quiet">
              Every tracked field is changed for real in the business database, in transactions that are rolled back, to
              see whether an entry appears. Rows are locked for some milliseconds each.
            </p>
            <Button
              v-if="session.may('tracking.edit')"
              type="primary"
              :loading="proving"
              :disabled="!source.inForceSince"
              @click="prove"
              >{{ proving ? 'Trying every field' : 'Prove it now' }}</Button
            >
            <ProblemNote v-if="problem" :problem="problem" />
            <ul v-if="unproven.length > 0" class="unproven">
              <li v-for="field in unproven" :key="field.fieldId">
                <button class="plain name" @click="show(field.typeId)">
                  {{ fieldName(field.typeId, field.fieldId) }}
                </button>
                <span :class="field.outcome === 'missed' ? 'failure' : 'quiet'">{{ field.words }}</span>
              </li>
            </ul>
          </section>
          <BlindSpots :source="source" @open="show" />
        </div>
      </template>
    </SplitPane>
  </TrackingFrame>
</template>

<style scoped>
.page {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 190px 1fr;
  background: var(--panel);
}
.types {
  overflow: auto;
  border-right: 1px solid var(--line);
  padding: 8px 0;
  background: var(--raised);
}
.types button {
  width: 100%;
  padding: 4px 18px;
  display: flex;
  justify-content: space-between;
  gap: 6px;
  font-size: 13px;
}
.types .on {
  background: var(--pine-wash);
  font-weight: 600;
}
.lanes {
  overflow: auto;
  padding: 14px 18px;
  font-size: 13px;
}
h2 {
  font-size: 17px;
  font-weight: 650;
  line-height: 24px;
}
.axis {
  position: relative;
  height: 20px;
  margin: 10px 274px 0 136px;
  font-size: 12px;
}
.axis span {
  position: absolute;
}
.axis .end {
  right: 0;
}
.lane {
  display: grid;
  grid-template-columns: 128px 1fr 86px 100px 56px;
  gap: 8px;
  align-items: center;
  min-height: 26px;
  border-bottom: 1px solid var(--line-soft);
}
.name {
  overflow: hidden;
  text-overflow: ellipsis;
}
.track {
  position: relative;
  height: 14px;
}
.track i {
  position: absolute;
  top: 0;
  height: 14px;
  border-radius: 2px;
}
.bar {
  background: var(--moss-wash);
  border: 1px solid var(--moss);
}
.bar.fingerprint {
  background: linear-gradient(180deg, var(--moss-wash) 0 50%, var(--panel) 50%);
}
.unknown {
  left: 0;
  background: repeating-linear-gradient(135deg, transparent 0 4px, var(--line) 4px 5px);
}
.gap {
  background: repeating-linear-gradient(135deg, var(--panel) 0 2px, var(--plum) 2px 4px);
}
.none {
  position: absolute;
  font-size: 12px;
  line-height: 14px;
}
.figure {
  font-size: 12px;
  white-space: nowrap;
}
.key {
  margin-top: 12px;
  display: flex;
  align-items: center;
  gap: 8px;
  font-size: 12px;
}
.key i {
  display: inline-block;
  width: 26px;
  height: 12px;
  margin-left: 8px;
}
.pane {
  overflow: auto;
  font-size: 13px;
}
.pane > section:first-child {
  padding: 12px 18px;
  display: grid;
  gap: 8px;
  justify-items: start;
  border-bottom: 1px solid var(--line);
}
h3 {
  font-size: 15px;
  font-weight: 650;
}
.unproven {
  width: 100%;
}
.unproven li {
  padding: 4px 0;
  display: grid;
  border-top: 1px solid var(--line-soft);
}
</style>
