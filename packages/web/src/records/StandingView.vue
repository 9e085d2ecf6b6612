<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import { useEventListener, useIntervalFn, useNow, watchDebounced, watchThrottled } from '@vueuse/core'
import { routes, type Reference, type StandingPage } from '@spoor/contract'
import { capitalised, counted, grouped, spanAround, type Scope } from '@spoor/core'
import { computed, nextTick, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { addressOf, call } from '../api/client.ts'
import { usePages } from '../changes/saves-list.ts'
import { besideQuery } from '../evidence/beside.ts'
import ColumnChooser from '../frame/ColumnChooser.vue'
import ColumnHeads from '../frame/ColumnHeads.vue'
import { useLayout, type Column } from '../frame/layout.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { usePulse } from '../frame/pulse.ts'
import { useRows } from '../frame/rows.ts'
import SplitPane from '../frame/SplitPane.vue'
import { scopeQuery } from '../scope/query.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { labelsOf } from '../value/labels.ts'
import { useSession } from '../session/session.ts'
import { fullTime, readerZone, shortTime } from '../value/time.ts'
import { useCameFrom } from './came-from.ts'
import CellPast from './CellPast.vue'
import { markedSince, useGridAsked } from './grid.ts'
import GridSentence from './GridSentence.vue'
import { recordLink } from './link.ts'
import MakeBaseline from './MakeBaseline.vue'
import SetBackGrid from './SetBackGrid.vue'
import StandingCell from './StandingCell.vue'

/** The records of a type as they stand, or stood at a moment: one line a record, one column a field. */
const route = useRoute()
const router = useRouter()
const pulse = usePulse()
const session = useSession()
const cameFrom = useCameFrom()
const names = useVocabulary(ref({}))
const typeId = computed(() => Number(route.params['typeId']))

/** More would be narrower than what they hold. */
const shownAtFirst = 7
const columns = computed<Column<string>[]>(() => [
  { id: 'record', title: 'Record', width: 200, grows: true, fixed: true },
  ...names.value.fields
    .filter((field) => field.typeId === typeId.value)
    .map((field, at) => ({
      id: `f${field.id}`,
      title: capitalised(field.name),
      width: 130,
      hidden: at >= shownAtFirst || field.masked,
    })),
])
const layout = useLayout(() => `records-${typeId.value}` as const, columns)
const fieldIds = computed(() => layout.shown.value.flatMap(({ id }) => (id === 'record' ? [] : [Number(id.slice(1))])))

/** What is masked is no part of a baseline. */
const openFields = computed(() =>
  fieldIds.value.filter((id) => !names.value.fields.find((field) => field.id === id)?.masked),
)

const { asked, ask } = useGridAsked()
const words = ref(asked.value.words)
watchDebounced(words, (now) => ask({ words: now.trim() }), { debounce: 200 })

const gridQuery = computed(() => {
  const { words: holding, at, where, order: by } = asked.value
  return {
    typeId: String(typeId.value),
    fields: fieldIds.value.join(','),
    ...(holding === '' ? {} : { words: holding }),
    ...(at === null ? {} : { at }),
    ...(marked.value === undefined ? {} : { marks: marked.value }),
    ...(where.length === 0 ? {} : { where: JSON.stringify(where) }),
    ...(by === null ? {} : { order: String(by) }),
  }
})
const workbookAddress = computed(() => addressOf(routes.exportStandingWorkbook, { query: gridQuery.value }))
const csvAddress = computed(() => addressOf(routes.exportStanding, { query: gridQuery.value }))
const now = useNow({ interval: 60_000 })
/** The records as they stand on the screen, beside the marked changes of them as a pack. */
const evidenceLink = computed(() => {
  const { words: holding, at, where, order: by } = asked.value
  const until = at ?? now.value.toISOString()
  const scope: Scope = {
    what: { part: 'what', exclude: false, types: [typeId.value], fields: [] },
    ...(marked.value === undefined
      ? {}
      : {
          when: {
            part: 'when',
            exclude: false,
            effective: false,
            span: spanAround(marked.value, until, readerZone),
          },
        }),
  }
  return {
    path: '/evidence/making',
    query: {
      ...scopeQuery(scope),
      ...besideQuery({
        beside: 'standing',
        typeId: typeId.value,
        fields: [...openFields.value],
        at: until,
        ...(holding === '' ? {} : { words: holding }),
        where: [...where],
        ...(by === null ? {} : { order: String(by) }),
      }),
    },
  }
})

type Line = StandingPage['records'][number]
type Held = Line['values'][number]
const references = ref<Reference[]>([])
/** From when on changes are marked. */
const marked = ref<string>()
const coming = ref(0)
const behind = ref(0)
const total = ref<number | null>(null)
const labelOf = computed(() => labelsOf(references.value))
/** Rises when the reader takes in what came since. */
const taken = ref(0)
const {
  items: lines,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<Line>(
  computed(() => JSON.stringify([typeId.value, fieldIds.value, asked.value, taken.value])),
  async (after, signal) => {
    if (fieldIds.value.length === 0) return { items: [], next: null }
    // Of one list all pages are marked from one moment on.
    if (after === undefined) marked.value = markedSince(asked.value, Date.now())
    const query = { ...gridQuery.value, ...(after === undefined ? {} : { after }) }
    const page = await call(routes.listStanding, { query, signal })
    references.value = after === undefined ? page.references : [...references.value, ...page.references]
    coming.value = page.coming
    behind.value = page.behind
    total.value = page.total
    return { items: page.records, next: page.next }
  },
)
const scroller = ref<HTMLElement | null>(null)
const { height, visible, scrollTo } = useRows(lines, scroller, more)

/** Nothing moves under the eye of somebody who has gone down the list; what was is not moved by what comes. */
watchThrottled(
  () => pulse.pulse?.latestSave,
  () => asked.value.at === null && (scroller.value?.scrollTop ?? 0) === 0 && taken.value++,
  { throttle: 3000 },
)

useIntervalFn(() => (behind.value > 0 || coming.value > 0) && taken.value++, 2000)

function show(id: number) {
  words.value = ''
  cell.value = null
  const { at, marks } = route.query
  const kept = { ...(at === undefined ? {} : { at }), ...(marks === undefined ? {} : { marks }) }
  void router.push({ name: 'standing', params: { typeId: String(id) }, query: kept })
}

/** The cell whose past stands beside, by its record's key and its column. */
const cell = ref<{ key: string; column: string } | null>(null)
const cellLine = computed(() => lines.value.find((line) => line.key === cell.value?.key))
const cells = computed(() => layout.shown.value.flatMap(({ id }) => (id === 'record' ? [] : [id])))
const isHere = (line: Line, column: string) => cell.value?.key === line.key && cell.value.column === column
async function pick(line: Line | undefined, column: string | undefined) {
  if (!line || column === undefined) return
  cell.value = { key: line.key, column }
  scrollTo(lines.value.indexOf(line))
  await nextTick()
  scroller.value?.focus({ preventScroll: true })
}
const steps: Readonly<Record<string, readonly [down: number, right: number]>> = {
  ArrowUp: [-1, 0],
  ArrowDown: [1, 0],
  ArrowLeft: [0, -1],
  ArrowRight: [0, 1],
}
function onKey(event: KeyboardEvent) {
  if (event.target !== scroller.value) return
  const step = steps[event.key]
  if (step) {
    event.preventDefault()
    if (!cell.value) return void pick(lines.value[0], cells.value[0])
    const row = lines.value.findIndex((line) => line.key === cell.value?.key) + step[0]
    void pick(lines.value[row], cells.value[cells.value.indexOf(cell.value.column) + step[1]])
  } else if (event.key === 'Enter' && cellLine.value) {
    cameFrom.from(lines.value.map(({ key }) => ({ typeId: typeId.value, key })))
    void router.push(recordLink({ typeId: typeId.value, key: cellLine.value.key }))
  }
}
useEventListener('keydown', (event) => {
  if (event.key === 'Escape') cell.value = null
})

/** A column's head puts records in the order of what they held: once upwards, again the greatest first, then by name. */
function orderBy(column: string) {
  const fieldId = Number(column.slice(1))
  const before = asked.value.order
  ask({ order: column === 'record' || before === -fieldId ? null : before === fieldId ? -fieldId : fieldId })
}
const order = computed(() =>
  asked.value.order === null
    ? { by: 'record', descending: false }
    : { by: `f${Math.abs(asked.value.order)}`, descending: asked.value.order < 0 },
)
const sortable = computed(() => [
  'record',
  ...names.value.fields.filter((field) => field.typeId === typeId.value && !field.masked).map(({ id }) => `f${id}`),
])
const isFuture = computed(() => asked.value.at !== null && Date.parse(asked.value.at) > Date.now())

/** Of a column that was just put there. */
const nothingYet: Held = { fieldId: 0, value: null, unknown: 'unseen', cut: false, found: false, since: null, times: 0 }
const heldIn = (line: Line, column: string): Held =>
  line.values.find((one) => `f${one.fieldId}` === column) ?? nothingYet
</script>

<template>
  <main class="stand">
    <header>
      <GridSentence :type-id="typeId" :names="names" :asked="asked" @type="show" @ask="ask" />
      <div class="tools">
        <span class="quiet count">{{ total === null ? '' : `${grouped(total)} records` }}</span>
        <Input
          v-model:value="words"
          class="find"
          allow-clear
          aria-label="Only records whose name holds these words"
          placeholder="Name holds …"
        />
        <ColumnChooser :layout="layout" />
        <SetBackGrid
          v-if="session.may('corrections.draft') && asked.at !== null && !isFuture && openFields.length > 0"
          :type-id="typeId"
          :asked="asked"
          :at="asked.at"
          :field-ids="openFields"
          :names="names"
        />
        <MakeBaseline
          v-if="session.may('baselines.make') && openFields.length > 0 && !isFuture"
          :type-id="typeId"
          :asked="asked"
          :field-ids="openFields"
        />
        <RouterLink
          v-if="session.may('packs.make') && openFields.length > 0 && !isFuture"
          :to="evidenceLink"
          class="file"
          >Evidence …</RouterLink
        >
        <a v-if="session.may('changes.export') && fieldIds.length > 0" :href="csvAddress" class="file" download
          >As CSV</a
        >
        <a v-if="session.may('changes.export') && fieldIds.length > 0" :href="workbookAddress" class="file" download
          >As a workbook</a
        >
      </div>
    </header>
    <p v-if="isFuture" class="coming" role="status">
      {{ fullTime(asked.at!) }} is still to come. These are the records as they stand now.
    </p>
    <p v-if="behind > 0" class="coming" role="status">
      How records stand is being put together from the ledger: {{ counted(behind, 'save') }} to go.
    </p>
    <p v-if="coming > 0" class="coming" role="status">
      {{ counted(coming, 'record') }} that were taken in as found are being put here; they follow within moments.
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
    <SplitPane name="grid" :open="cell !== null && cellLine !== undefined" :width="392" label="The cell’s past">
      <div
        ref="scroller"
        class="rows"
        :class="{ stale }"
        :aria-busy="loading"
        role="table"
        aria-label="Records as they stand"
        tabindex="0"
        :style="{ '--columns': layout.template.value, '--least': `${layout.least.value + 40}px` }"
        @keydown="onKey"
        @click.capture="cameFrom.from(lines.map(({ key }) => ({ typeId, key })))"
      >
        <ColumnHeads class="line head" :layout="layout" :order="order" :sortable="sortable" only="" @order="orderBy" />
        <div :style="{ height: `${height}px`, position: 'relative' }" role="rowgroup">
          <div
            v-for="{ start, row: line } in visible"
            :key="line.key"
            class="line"
            :style="{ transform: `translateY(${start}px)` }"
            role="row"
          >
            <template v-for="{ id } in layout.shown.value" :key="id">
              <span v-if="id === 'record'" role="rowheader" :class="{ gone: line.deletedAt }" :title="line.label"
                ><RouterLink :to="recordLink({ typeId, key: line.key })"
                  ><bdi>{{ line.label }}</bdi></RouterLink
                ></span
              >
              <template v-else-if="line.deletedAt">
                <span v-if="id === cells[0]" class="ended" role="cell"
                  >deleted {{ shortTime(line.deletedAt) }} ·
                  <RouterLink :to="recordLink({ typeId, key: line.key })">what it held</RouterLink></span
                >
              </template>
              <StandingCell
                v-else
                :here="isHere(line, id)"
                :held="heldIn(line, id)"
                :base-type="names.baseType(Number(id.slice(1)))"
                :label="labelOf(Number(id.slice(1)), heldIn(line, id).value)"
                @click="pick(line, id)"
              />
            </template>
          </div>
        </div>
        <p v-if="loading && lines.length === 0" class="state quiet">Reading records …</p>
        <p v-else-if="!problem && lines.length === 0 && asked.words !== ''" class="state">
          No record of these has “{{ asked.words }}” in its name.
        </p>
        <p v-else-if="!problem && lines.length === 0 && (asked.at !== null || asked.where.length > 0)" class="state">
          Of no record it is known that it {{ asked.at === null ? 'is' : 'was then' }}
          {{ asked.where.length > 0 ? 'so' : 'there' }}. What was not tracked at the moment that is asked for is not
          known.
        </p>
        <p v-else-if="!problem && lines.length === 0 && behind === 0" class="state">
          Nothing is known of any such record yet. What they hold is taken in when a plan that tracks them is put in
          force.
        </p>
        <p v-if="next !== null" class="paper-only">
          The first {{ counted(lines.length, 'record') }}, by name. There are more.
        </p>
      </div>
      <p class="legend quiet">
        <template v-if="marked"
          ><span class="spot" aria-hidden="true" /> changed in that time, two for more than once ·
        </template>
        <span class="swatch" aria-hidden="true" /> not known then: hold the pointer over it for the reason · a press on
        a cell or the arrow keys show its past
      </p>
      <template #pane>
        <CellPast
          v-if="cell && cellLine"
          :key="`${typeId} ${cell.key}`"
          :type-id="typeId"
          :record-key="cell.key"
          :label="cellLine.label"
          :field-id="Number(cell.column.slice(1))"
          :names="names"
          :at="asked.at"
          :since="marked"
          @close="cell = null"
        />
      </template>
    </SplitPane>
  </main>
</template>

<style scoped src="../frame/rows.css"></style>
<style scoped>
.stand {
  display: flex;
  flex-direction: column;
  min-height: 0;
  height: 100%;
}
header {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 10px 18px;
  border-bottom: 1px solid var(--line);
  background: var(--panel);
}
/* The sentence keeps room for a few lines' words, however much can be done. */
.tools {
  flex: 0 1 auto;
  max-width: 52%;
  margin-left: auto;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  justify-content: flex-end;
  gap: 6px 14px;
}
.file,
.count {
  white-space: nowrap;
}
.find {
  max-width: 150px;
}
.coming {
  padding: 6px 18px;
}
.swatch {
  background: repeating-linear-gradient(135deg, var(--line-soft) 0 3px, transparent 3px 7px);
  display: inline-block;
  width: 34px;
  height: 12px;
  vertical-align: -2px;
}
.gone {
  opacity: 0.55;
}
.ended {
  grid-column: 2 / -1;
  color: var(--soft);
}
.spot {
  display: inline-block;
  width: 6px;
  height: 6px;
  border-radius: 50%;
  background: var(--ink);
  vertical-align: 1px;
}
.legend {
  padding: 6px 18px;
  font-size: 12px;
  border-top: 1px solid var(--line-soft);
}
</style>
