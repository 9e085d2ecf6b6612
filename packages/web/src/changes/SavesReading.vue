<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { routes, saveSorts, type Reference, type RunLine, type Save, type SaveSort } from '@spoor/contract'
import { grouped, parseScope, scopeEntries, withPart, type Scope } from '@spoor/core'
import { computed, nextTick, ref, watch } from 'vue'
import { call } from '../api/client.ts'
import { useRevert } from '../corrections/revert.ts'
import ColumnHeads from '../frame/ColumnHeads.vue'
import { track, type ListLayout } from '../frame/layout.ts'
import { useOrder } from '../frame/order.ts'
import OrderNote from '../frame/OrderNote.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useRows } from '../frame/rows.ts'
import { useTray } from '../frame/tray.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { labelsOf } from '../value/labels.ts'
import { dayOf, dayText } from '../value/time.ts'
import type { SaveColumn } from './columns.ts'
import RunRow from './RunRow.vue'
import { useRunSaves } from './run-saves.ts'
import SaveRow from './SaveRow.vue'
import { usePages } from './saves-list.ts'

/** The scope save by save: newest first with a heading a day, or in an order of the reader's. */
export interface Props {
  scope: string
  version: number
  names: NamedVocabulary
  openId: string | null
  total: number
  /** The saves of a long run stand in one line, as long as the newest come first. */
  together: boolean
  layout: ListLayout<SaveColumn>
}
const props = defineProps<Props>()
const emit = defineEmits<{
  open: [saveId: string | null]
  scrolled: [top: number]
  mark: [saves: Save[]]
  show: [scope: Scope]
}>()
const tray = useTray()
const { order, only, refused, press, reset } = useOrder(
  saveSorts,
  computed(() => props.total),
)
const daily = computed(() => order.value.by === 'time')
const references = ref<Reference[]>([])
const runs = ref(new Map<string, RunLine>())
const labelOf = computed(() => labelsOf(references.value))
const scroller = ref<HTMLElement | null>(null)
// A line of a run is reckoned from all of its saves.
const pageSize = computed(() => (props.together ? '60' : '100'))
const {
  items: saves,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<Save>(
  computed(() => `${props.version} ${order.value.by} ${order.value.descending} ${props.together} ${props.scope}`),
  async (after, signal) => {
    const query = {
      scope: props.scope,
      limit: pageSize.value,
      sort: order.value.by as SaveSort,
      descending: order.value.descending ? ('1' as const) : ('0' as const),
      together: props.together ? ('1' as const) : ('0' as const),
      ...(after === undefined ? {} : { after }),
    }
    const page = await call(routes.listSaves, { query, signal })
    references.value = after === undefined ? page.references : [...references.value, ...page.references]
    const lines = page.runs.map((line) => [line.saveId, line] as const)
    runs.value = new Map(after === undefined ? lines : [...runs.value, ...lines])
    return { items: page.saves, next: page.next }
  },
)

const ofRuns = useRunSaves(
  computed(() => props.scope),
  computed(() => props.version),
)

type Row =
  | { row: 'day'; key: string; at: string }
  | { row: 'save'; key: string; save: Save; inside: boolean }
  | { row: 'run'; key: string; save: Save; line: RunLine }
  | { row: 'rest'; key: string; line: RunLine }
const rows = computed<Row[]>(() =>
  saves.value.flatMap((save, index): Row[] => {
    const before = saves.value[index - 1]
    const newDay = daily.value && (!before || dayOf(before.at) !== dayOf(save.at))
    return [...(newDay ? [{ row: 'day', key: save.at, at: save.at } as const] : []), ...rowsOf(save)]
  }),
)
function rowsOf(save: Save): Row[] {
  const line = runs.value.get(save.id)
  if (!line) return [{ row: 'save', key: save.id, save, inside: false }]
  const head: Row = { row: 'run', key: `run ${line.runId}`, save, line }
  if (!ofRuns.isOpen(line.runId)) return [head]
  const { saves: inside } = ofRuns.of(line.runId)
  return [
    head,
    ...inside.map((one): Row => ({ row: 'save', key: one.id, save: one, inside: true })),
    ...(ofRuns.isWhole(line.runId) ? [] : [{ row: 'rest', key: `rest ${line.runId}`, line } as const]),
  ]
}
const { height, visible, scrollTo } = useRows(rows, scroller, more)

const timeWidth = 118
/** Without headings a day the time has to say it. */
const template = computed(
  () =>
    `16px ${props.layout.shown.value.map((column) => (column.id === 'time' && !daily.value ? `${Math.max(column.width, timeWidth)}px` : track(column))).join(' ')}`,
)

/** What the arrow keys stop at. */
const stops = computed(() => rows.value.filter((row) => row.row !== 'day'))
const openIndex = computed(() => stops.value.findIndex((row) => row.row === 'save' && row.save.id === props.openId))
const focusAt = ref(0)
watch(openIndex, (index) => index >= 0 && (focusAt.value = index))
watch(saves, (now, before) => now[0]?.id !== before[0]?.id && openIndex.value < 0 && (focusAt.value = 0))
const focused = computed(() => stops.value[focusAt.value])

async function step(by: number) {
  focusAt.value = Math.min(stops.value.length - 1, Math.max(0, focusAt.value + by))
  scrollTo(rows.value.findIndex((row) => row === focused.value))
  if (props.openId !== null && focused.value?.row === 'save') emit('open', focused.value.save.id)
  await nextTick()
}

/** The run whose saves are read to the end, because all of them are to be picked or marked. */
const readingAll = ref<number | null>(null)
async function withWhole(line: RunLine, act: (all: Save[]) => void) {
  if (readingAll.value !== null) return
  readingAll.value = line.runId
  const all = ofRuns.isWhole(line.runId) ? ofRuns.of(line.runId).saves : await ofRuns.whole(line)
  readingAll.value = null
  if (all) act(all)
}
function pickRun(line: RunLine) {
  void withWhole(line, (all) => (all.every((save) => tray.holds(save)) ? tray.remove(all) : tray.add(all)))
}
function pickedOf({ runId }: RunLine): boolean | 'some' {
  const held = ofRuns.of(runId).saves.filter((save) => tray.holds(save)).length
  if (held === 0) return false
  return ofRuns.isWhole(runId) && held === ofRuns.of(runId).saves.length ? true : 'some'
}

const session = useSession()
const { draft, problem: draftProblem } = useRevert()
const mayRevert = computed(() => session.may('corrections.draft'))
/** What is asked for, of one run alone; null where the sentence leaves some acts out, beside which a run cannot be said. */
function aloneScope({ runId }: RunLine): Scope | null {
  const { scope } = parseScope(new URLSearchParams(props.scope))
  if (scope.how?.exclude) return null
  return withPart(scope, { part: 'how', exclude: false, actions: [], channels: [], ...scope.how, runs: [runId] })
}
function revertRun(line: RunLine) {
  const scope = aloneScope(line)
  if (scope && mayRevert.value) void draft({ scope: new URLSearchParams(scopeEntries(scope)).toString() })
}
function revert(row: Row | undefined) {
  // An opened save and a filled tray answer to the key themselves.
  if (props.openId !== null || tray.saves.length > 0 || !mayRevert.value) return
  if (row?.row === 'save') void draft({ changes: [{ saveId: row.save.id }] })
  if (row?.row === 'run') revertRun(row.line)
}
function choose(row: Row | undefined) {
  if (row?.row === 'save') emit('open', row.save.id)
  if (row?.row === 'run') void ofRuns.toggle(row.line)
  if (row?.row === 'rest') void ofRuns.more(row.line.runId)
}
function pick(row: Row | undefined) {
  if (row?.row === 'save') tray.toggle(row.save)
  if (row?.row === 'run') pickRun(row.line)
}
function mark(row: Row | undefined) {
  // An opened save answers to the key itself.
  if (props.openId !== null) return
  if (row?.row === 'save') emit('mark', [row.save])
  if (row?.row === 'run') void withWhole(row.line, (all) => emit('mark', all))
}
function turn(row: Row | undefined, opened: boolean) {
  if (row?.row === 'run' && ofRuns.isOpen(row.line.runId) !== opened) void ofRuns.toggle(row.line)
}

useEventListener('keydown', (event: KeyboardEvent) => {
  const target = event.target as HTMLElement
  if (event.ctrlKey || event.metaKey || event.altKey) return
  if (target.closest('input:not([type=checkbox]), textarea, .ant-popover, [role=separator], [role=slider]')) return
  const acts: Record<string, () => void> = {
    j: () => void step(1),
    ArrowDown: () => void step(1),
    k: () => void step(-1),
    ArrowUp: () => void step(-1),
    ArrowRight: () => turn(focused.value, true),
    ArrowLeft: () => turn(focused.value, false),
    Enter: () => choose(focused.value),
    Escape: () => emit('open', null),
    x: () => pick(focused.value),
    m: () => mark(focused.value),
    r: () => revert(focused.value),
  }
  const act = acts[event.key]
  if (!act || (event.key === 'Enter' && target.closest('button, a'))) return
  event.preventDefault()
  act()
})
</script>

<template>
  <ProblemNote v-if="problem && problem.code !== 'bad-scope'" :problem="problem" class="note">
    <button v-if="problem.code === 'too-many-to-sort'" class="plain mend" @click="reset">Show the newest first</button>
  </ProblemNote>
  <ProblemNote v-if="draftProblem" :problem="draftProblem" class="note" />
  <div
    ref="scroller"
    class="rows"
    :class="{ stale }"
    :aria-busy="loading"
    role="grid"
    aria-label="Saves"
    :aria-rowcount="total"
    tabindex="0"
    :style="{ '--columns': template, '--least': `${layout.least.value + 60}px` }"
    @scroll="emit('scrolled', scroller?.scrollTop ?? 0)"
  >
    <ColumnHeads
      class="line head"
      :layout="layout"
      :order="order"
      :sortable="saveSorts"
      :only="only"
      @order="press"
      @refused="refused = true"
      ><template #before
        ><span role="columnheader" class="visually-hidden">Picked</span><span aria-hidden="true" /></template
    ></ColumnHeads>
    <OrderNote v-if="refused" :words="only" @close="refused = false" />
    <div :style="{ height: `${height}px`, position: 'relative' }" role="rowgroup">
      <div
        v-for="{ start, row } in visible"
        :key="row.key"
        class="item"
        :style="{ transform: `translateY(${start}px)` }"
        role="presentation"
      >
        <div v-if="row.row === 'day'" class="day" role="row">
          <span role="gridcell">{{ dayText(row.at) }}</span>
        </div>
        <RunRow
          v-else-if="row.row === 'run'"
          :line="row.line"
          :save="row.save"
          :names="names"
          :columns="layout.shown.value"
          :label-of="labelOf"
          :opened="ofRuns.isOpen(row.line.runId)"
          :picked="pickedOf(row.line)"
          :reading="readingAll === row.line.runId ? ofRuns.of(row.line.runId).saves.length : null"
          :class="{ at: row === focused }"
          :alone="aloneScope(row.line) !== null"
          :may-revert="mayRevert"
          @alone="emit('show', aloneScope(row.line)!)"
          @revert="revertRun(row.line)"
          @toggle="ofRuns.toggle(row.line)"
          @pick="pickRun(row.line)"
          @stop="ofRuns.stop()"
        />
        <p v-else-if="row.row === 'rest'" class="rest" :class="{ at: row === focused }">
          <span v-if="ofRuns.of(row.line.runId).problem" class="failure">{{
            ofRuns.of(row.line.runId).problem?.detail
          }}</span>
          <button v-if="!ofRuns.of(row.line.runId).loading" class="plain" @click="ofRuns.more(row.line.runId)">
            Show more of this run
          </button>
          <span v-else class="quiet">Reading the saves of this run …</span>
        </p>
        <SaveRow
          v-else
          :save="row.save"
          :names="names"
          :columns="layout.shown.value"
          :dated="!daily"
          :label-of="labelOf"
          :picked="tray.holds(row.save)"
          :open="row.save.id === openId"
          :class="{ at: row === focused, inside: row.inside }"
          @open="emit('open', row.save.id)"
          @pick="tray.toggle(row.save)"
        />
      </div>
    </div>
    <p v-if="loading && saves.length === 0" class="state quiet">Reading the ledger …</p>
    <slot v-else-if="!problem && saves.length === 0" name="empty" />
    <p v-if="next !== null" class="paper-only">
      The first {{ grouped(saves.length) }} saves. More are in this scope; take them out as a file.
    </p>
    <p v-if="next !== null && saves.length > 0 && loading" class="quiet more">Reading more …</p>
  </div>
</template>

<style scoped src="../frame/rows.css"></style>
<style scoped>
.head {
  height: 26px;
  font-size: 12.5px;
}
.note {
  margin: 10px 18px;
}
.mend {
  color: var(--pine);
}
.item {
  min-width: var(--least);
  position: absolute;
  inset: 0 0 auto;
}
.day {
  height: 28px;
  padding: 7px 18px 0;
  font-size: 12.5px;
  font-weight: 600;
  color: var(--soft);
}
.inside {
  box-shadow:
    inset 9px 0 0 var(--ground),
    inset 11px 0 0 var(--line);
}
.rest {
  height: 28px;
  margin: 0;
  padding: 5px 18px 0 44px;
  font-size: 13px;
  box-shadow:
    inset 9px 0 0 var(--ground),
    inset 11px 0 0 var(--line);
}
.rest button {
  color: var(--pine);
}
.rows:focus-visible .at {
  outline: 2px solid var(--pine);
  outline-offset: -2px;
}
</style>
