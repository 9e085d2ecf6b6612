<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { exportColumns, exportHeadings, packShapes, routes, type ExportColumn, type PackShape } from '@spoor/contract'
import {
  capitalised,
  casesOf,
  counted,
  dateText,
  lastMaking,
  scopeEntries,
  scopeOfTurn,
  withoutPart,
  type Rhythm,
  type Scope,
} from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import { useAskedWork } from '../figures/worked-out.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSummary } from '../changes/saves-list.ts'
import ScopeSentence from '../scope/ScopeSentence.vue'
import { useUrlScope } from '../scope/url-scope.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { readerZone } from '../value/time.ts'
import BlackedScope from './BlackedScope.vue'
import { besideIn } from './beside.ts'
import PackPaper from './PackPaper.vue'
import { addressesIn } from '../value/addresses.ts'
import { regularKey, useRegularPacks } from './regular.ts'
import RhythmPick from './RhythmPick.vue'
import { shapeWords } from './words.ts'

/** A pack in the making: what goes in at the left, the page as it will be read at the right. */
const route = useRoute()
const router = useRouter()
const session = useSession()
const cache = useQueryClient()
const { parsed, text, set } = useUrlScope()
const { summary } = useSummary(text, () => true)
const names = useVocabulary(
  computed(() => summary.value?.recordLabels ?? {}),
  computed(() => summary.value?.runLabels ?? {}),
  computed(() => summary.value?.storyLabels ?? {}),
  computed(() => summary.value?.caseLabels ?? {}),
)

/** Of a pack of a case alone: the case, whose question is what it is for unless something else is said. */
const caseId = computed(() => {
  const { state } = parsed.value.scope
  const cases = state && !state.exclude && state.states.length + state.stories.length === 0 ? casesOf(state) : []
  return cases.length === 1 ? cases[0] : undefined
})
const title = ref('')
watch(
  () => summary.value?.caseLabels[String(caseId.value)],
  (question) => {
    if (question !== undefined && title.value === '') title.value = question
  },
  { immediate: true },
)
const why = ref('')
const shown = ref<PackShape[]>(['pdf', 'csv'])
const usual: ExportColumn[] = ['time', 'who', 'record', 'field', 'before', 'after', 'reason', 'save']
const asked = String(route.query['columns'] ?? '').split(',')
const onScreen = exportColumns.filter((column) => asked.includes(column))
const columns = ref<ExportColumn[]>(onScreen.length > 0 ? onScreen : usual)
const said = ref(caseId.value !== undefined)
const stamped = ref(true)
const worked = ref(useAskedWork().value)
const withWork = ref(worked.value !== undefined)
const beside = ref(besideIn(route.query))
/** Why, by the field that is blacked out. */
const blacked = ref<Record<number, string>>({})
/** Changes that are blacked out by what a sentence says of them. */
const blackedScopes = ref<{ scope: string; why: string }[]>([])

// What is made again begins as it was.
const again = Number(route.query['again'])
const { data: before } = useQuery({
  queryKey: ['pack', String(again)],
  queryFn: () => call(routes.readPack, { params: { packId: String(again) } }),
  enabled: Number.isInteger(again) && again > 0,
})
watch(before, (pack) => {
  if (!pack) return
  title.value = pack.title
  why.value = pack.why
  shown.value = [...pack.shown]
  columns.value = [...pack.columns]
  said.value = pack.said
  stamped.value = pack.stamped
  worked.value = pack.workedOut ?? undefined
  withWork.value = pack.workedOut !== null
  beside.value = [...pack.beside]
  blackedScopes.value = pack.blackedScopes.map((one) => ({ ...one }))
  blacked.value = Object.fromEntries(pack.blacked.map((one) => [one.fieldId, one.why]))
})

const rhythm = ref<Rhythm | null>(null)
const mail = ref('')
const { data: regular } = useRegularPacks()
/** What the last of the regular packs would be of, so that it can be looked at. */
const spellBefore = computed(() =>
  rhythm.value === null ? null : lastMaking(rhythm.value, { nowMs: Date.now(), zone: readerZone, holidays: new Set() }),
)
const isTimed = computed(() => parsed.value.scope.when !== undefined)
/** Nothing is said of the time: each is of the time before. */
const leaveTimeOut = () => set(withoutPart(parsed.value.scope, 'when'))
const previewScope = computed(() => {
  if (spellBefore.value === null || isTimed.value) return text.value
  return new URLSearchParams(scopeEntries(scopeOfTurn(parsed.value.scope, spellBefore.value, readerZone))).toString()
})

const shortest = 2
const isSaid = ({ scope, why: reason }: { scope: string; why: string }) =>
  scope !== '' && reason.trim().length >= shortest
const saidScopes = computed(() => blackedScopes.value.filter(isSaid))
const closes = (one: { scope: string; why: string }) =>
  preview.value?.blackedScopes[saidScopes.value.indexOf(one)] ?? null
const wish = computed(() => ({
  title: title.value.trim(),
  why: why.value.trim(),
  scope: text.value,
  zone: readerZone,
  columns: columns.value,
  shown: shown.value,
  said: said.value,
  stamped: stamped.value,
  blacked: Object.entries(blacked.value)
    .filter(([, reason]) => reason.trim().length >= shortest)
    .map(([fieldId, reason]) => ({ fieldId: Number(fieldId), why: reason.trim() })),
  blackedScopes: saidScopes.value.map((one) => ({ scope: one.scope, why: one.why.trim() })),
  ...(worked.value !== undefined && withWork.value ? { work: worked.value } : {}),
  // What stands beside it is of a moment, and each of the regular ones of another.
  ...(rhythm.value === null ? { beside: beside.value } : {}),
}))
const ofCase = computed(() =>
  caseId.value !== undefined && session.may('cases.write') ? { caseId: caseId.value } : {},
)
const settledMs = 350
const settled = refDebounced(
  computed(() => ({ ...wish.value, scope: previewScope.value })),
  settledMs,
)
const {
  data: preview,
  error,
  isFetching,
} = useQuery({
  queryKey: ['pack-preview', settled],
  queryFn: ({ signal }) => call(routes.previewPack, { body: settled.value, signal }),
  placeholderData: keepPreviousData,
})
/** What is typed stands on the page at once. */
const cover = computed(() => preview.value && { ...preview.value.cover, title: title.value, why: why.value || '…' })

function toggle<T>(list: T[], one: T, order: readonly T[]): T[] {
  const next = list.includes(one) ? list.filter((other) => other !== one) : [...list, one]
  return order.filter((other) => next.includes(other))
}
function blackOut(fieldId: number, on: boolean) {
  const { [fieldId]: _, ...rest } = blacked.value
  blacked.value = on ? { ...rest, [fieldId]: '' } : rest
}
const unexplained = computed(() => Object.values(blacked.value).some((reason) => reason.trim().length < shortest))
const missing = computed(() => {
  if (wish.value.title.length < 3) return 'Say for whom or what it is.'
  if (wish.value.why.length < 3) return 'Say why it is made.'
  if (wish.value.columns.length === 0) return 'Choose a column.'
  if (unexplained.value) return 'Say why each field is blacked out.'
  if (!blackedScopes.value.every(isSaid)) return 'Say which changes are blacked out, and why.'
  if (rhythm.value !== null && isTimed.value) return 'Leave the time out: each is of the time before.'
  return null
})
const { busy, problem, doing } = useDoing()
const make = () =>
  doing(async () => {
    if (rhythm.value !== null) {
      const body = { ...wish.value, rhythm: rhythm.value, mail: addressesIn(mail.value) }
      cache.setQueryData(regularKey, await call(routes.makeRegularPack, { body }))
      await router.push({ path: '/evidence' })
      return
    }
    const pack = await call(routes.makePack, { body: { ...wish.value, ...ofCase.value } })
    void cache.invalidateQueries({ queryKey: ['packs'] })
    await router.push({ name: 'pack', params: { packId: String(pack.id) } })
  })
const change = (scope: Scope) => set(scope)
</script>

<template>
  <div class="both">
    <form class="left" aria-label="What goes in" @submit.prevent="make">
      <h1>A pack in the making</h1>
      <div class="rows">
        <span class="name">what</span>
        <div class="said">
          <ScopeSentence :scope="parsed.scope" :names="names" @change="change" />
          <p v-if="preview" class="quiet" aria-live="polite">
            {{ counted(preview.cover.holds.changes, 'change') }} in {{ counted(preview.cover.holds.saves, 'save') }},
            {{ spellBefore && !isTimed ? `from ${dateText(spellBefore.from)} to ${dateText(spellBefore.to)}, ` : ''
            }}{{ preview.cover.gaps.length === 0 ? 'no gap in that time' : counted(preview.cover.gaps.length, 'gap') }}
          </p>
        </div>
        <span class="name"><label for="pack-title">for</label></span>
        <div class="said">
          <Input
            id="pack-title"
            v-model:value="title"
            :maxlength="200"
            placeholder="Whom, or what meeting or question"
          />
        </div>
        <span class="name"><label for="pack-why">why</label></span>
        <div class="said">
          <Input id="pack-why" v-model:value="why" :maxlength="2000" placeholder="Why it is made" />
        </div>
        <span id="pack-shown" class="name">shown as</span>
        <div class="said" role="group" aria-labelledby="pack-shown">
          <Checkbox
            v-for="shape in packShapes"
            :key="shape"
            :checked="shown.includes(shape)"
            @change="shown = toggle(shown, shape, packShapes)"
            >{{ shapeWords[shape] }}</Checkbox
          >
          <p class="quiet">The saves with their proofs are always in it: they are what is checked.</p>
        </div>
        <template v-if="worked !== undefined">
          <span id="pack-work" class="name">worked out</span>
          <div class="said" role="group" aria-labelledby="pack-work">
            <Checkbox v-model:checked="withWork">what was worked out of these changes, as a table</Checkbox>
          </div>
        </template>
        <template v-if="beside.length > 0 && rhythm === null">
          <span id="pack-beside" class="name">beside them</span>
          <ul class="said beside" aria-labelledby="pack-beside">
            <li v-for="(one, at) in beside" :key="JSON.stringify(one)">
              <span>{{ capitalised(preview?.beside[at] ?? '…') }}</span>
              <Button
                size="small"
                :aria-label="`Leave out: ${preview?.beside[at] ?? ''}`"
                @click="beside = beside.filter((other) => other !== one)"
                >Leave out</Button
              >
            </li>
          </ul>
        </template>
        <template v-if="session.may('review.read')">
          <span id="pack-said" class="name">with it</span>
          <div class="said" role="group" aria-labelledby="pack-said">
            <Checkbox v-model:checked="said">what was said: cases, notes, questions and their answers</Checkbox>
          </div>
        </template>
        <span id="pack-made" class="name">made</span>
        <div class="said made" role="group" aria-labelledby="pack-made">
          <RhythmPick v-model:rhythm="rhythm" />
          <p v-if="rhythm && isTimed" class="attention">
            Each is of the time before, so what goes in says no time.
            <Button size="small" @click="leaveTimeOut">Leave the time out</Button>
          </p>
          <template v-else-if="rhythm">
            <p v-if="spellBefore" class="quiet">At the right: the last one that there would have been.</p>
            <Input
              v-if="session.may('packs.hand') && regular?.mayMail"
              v-model:value="mail"
              size="small"
              aria-label="Mail addresses that each is sent to"
              placeholder="Sent to these mail addresses, with commas"
            />
          </template>
        </div>
        <span id="pack-stamped" class="name">time-stamp</span>
        <div class="said" role="group" aria-labelledby="pack-stamped">
          <Checkbox v-if="preview?.authority" v-model:checked="stamped"
            >by the authority at {{ preview.authority }} (RFC 3161)</Checkbox
          >
          <span v-else-if="preview" class="quiet"
            >No authority is set: SPOOR_TIME_STAMP_URL, where Spoor is started.</span
          >
        </div>
        <span id="pack-columns" class="name">columns</span>
        <div class="said columns" role="group" aria-labelledby="pack-columns">
          <Checkbox
            v-for="column in exportColumns"
            :key="column"
            :checked="columns.includes(column)"
            @change="columns = toggle(columns, column, exportColumns)"
            >{{ exportHeadings[column] }}</Checkbox
          >
        </div>
        <span id="pack-blacked" class="name">blacked out</span>
        <div class="said" role="group" aria-labelledby="pack-blacked">
          <p class="quiet">
            The values are left out; that there is one, and the proof of it, stays, and so does what records are called.
            What the plan masks is left out anyway.
          </p>
          <p v-if="preview && preview.fields.length === 0" class="quiet">There is no field in it.</p>
          <ul v-else-if="preview" class="fields">
            <li v-for="one in preview.fields" :key="one.fieldId">
              <Checkbox
                :checked="one.masked || one.fieldId in blacked"
                :disabled="one.masked"
                @change="blackOut(one.fieldId, !(one.fieldId in blacked))"
                >{{ one.name }} of {{ one.type }}</Checkbox
              >
              <Input
                v-if="one.fieldId in blacked && !one.masked"
                :value="blacked[one.fieldId] ?? ''"
                size="small"
                class="reason"
                :aria-label="`Why ${one.name} of ${one.type} is blacked out`"
                placeholder="Why, for who reads it"
                @update:value="blacked[one.fieldId] = $event"
              />
              <span v-else class="quiet">{{ one.masked ? 'masked' : counted(one.changes, 'change') }}</span>
            </li>
          </ul>
          <ul v-if="blackedScopes.length > 0" aria-label="Changes that are blacked out">
            <BlackedScope
              v-for="(one, at) in blackedScopes"
              :key="at"
              v-model:scope="one.scope"
              v-model:why="one.why"
              :closes="isSaid(one) ? closes(one) : null"
              @leave="blackedScopes = blackedScopes.filter((other) => other !== one)"
            />
          </ul>
          <Button size="small" @click="blackedScopes = [...blackedScopes, { scope: '', why: '' }]"
            >Black out a record, a person or a change …</Button
          >
        </div>
      </div>
      <ProblemNote v-if="problem" :problem="problem" />
      <footer>
        <Button type="primary" html-type="submit" :loading="busy" :disabled="missing !== null">{{
          rhythm ? 'Make it regularly' : 'Make the pack'
        }}</Button>
        <span class="quiet" role="status">{{
          missing ??
          (rhythm ? 'The first is made at its next turn.' : 'It is made as long work, and goes on when you leave.')
        }}</span>
      </footer>
    </form>
    <section class="right" aria-label="As it will be read" :aria-busy="isFetching" tabindex="0">
      <ProblemNote v-if="error" :problem="problemOf(error)" />
      <p v-else-if="!cover" class="quiet">Reading …</p>
      <PackPaper v-else :cover="cover" :heads="preview?.heads ?? []" :lines="preview?.lines ?? []" />
    </section>
  </div>
</template>

<style scoped>
.both {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(380px, 2fr) minmax(420px, 3fr);
}
.left {
  background: var(--panel);
  border-right: 1px solid var(--line);
  padding: 14px 22px 0;
  overflow: auto;
  display: flex;
  flex-direction: column;
}
h1 {
  font-size: 19px;
  line-height: 26px;
  font-weight: 650;
}
.rows {
  display: grid;
  grid-template-columns: 90px minmax(0, 1fr);
  margin: 6px 0 0;
  flex: 1;
  align-content: start;
}
.name,
.said {
  border-top: 1px solid var(--line-soft);
  padding: 8px 0;
}
.name {
  color: var(--soft);
}
.columns {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 10px;
}
.made {
  display: grid;
  gap: 6px;
  justify-items: start;
}
.beside li {
  display: flex;
  gap: 10px;
  justify-content: space-between;
  align-items: start;
}
.fields li {
  display: flex;
  align-items: center;
  gap: 10px;
  min-height: 28px;
}
.reason {
  flex: 1;
}
footer {
  position: sticky;
  bottom: 0;
  background: var(--panel);
  border-top: 1px solid var(--line);
  padding: 12px 0;
  display: flex;
  align-items: center;
  gap: 12px;
}
.right {
  overflow: auto;
  padding: 20px 28px;
}
</style>
