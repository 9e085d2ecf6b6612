<script setup lang="ts">
import { mostSorted, routes, type ProblemBody, type Save } from '@spoor/contract'
import { counted, firstWork, parseScope, withoutPart, workText, type Scope } from '@spoor/core'
import { useEventListener } from '@vueuse/core'
import Checkbox from 'ant-design-vue/es/checkbox'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { addressOf, call, problemOf } from '../api/client.ts'
import { useAskedWork } from '../figures/worked-out.ts'
import PressPopover from '../frame/PressPopover.vue'
import { isWriting } from '../frame/writing.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SplitPane from '../frame/SplitPane.vue'
import NamedScopes from '../scope/NamedScopes.vue'
import ScopeSentence from '../scope/ScopeSentence.vue'
import { scopeQuery } from '../scope/query.ts'
import { useUrlScope } from '../scope/url-scope.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { readerZone } from '../value/time.ts'
import ActivityRibbon from './ActivityRibbon.vue'
import ColumnChooser from '../frame/ColumnChooser.vue'
import { useLayout, type ListLayout } from '../frame/layout.ts'
import { changeColumns, exportColumnsFor, saveColumns } from './columns.ts'
import GapNote from './GapNote.vue'
import { readingOf, readings, type ReadingId } from './readings.ts'
import SavesReading from './SavesReading.vue'
import { useSummary } from './saves-list.ts'

const SetBackAll = defineAsyncComponent(() => import('../corrections/SetBackAll.vue'))
const AroundReading = defineAsyncComponent(() => import('./AroundReading.vue'))
const ChangesReading = defineAsyncComponent(() => import('./ChangesReading.vue'))
const DaysReading = defineAsyncComponent(() => import('./DaysReading.vue'))
const PairsReading = defineAsyncComponent(() => import('./PairsReading.vue'))
const RecordsReading = defineAsyncComponent(() => import('./RecordsReading.vue'))
const fetchPane = () => import('./SavePane.vue')
const SavePane = defineAsyncComponent(fetchPane)
const TimeReading = defineAsyncComponent(() => import('./TimeReading.vue'))
const WorkReading = defineAsyncComponent(() => import('../figures/WorkReading.vue'))
const route = useRoute()
const router = useRouter()
const session = useSession()
const { parsed, text, set } = useUrlScope()
const openId = computed(() => (typeof route.query['save'] === 'string' ? route.query['save'] : null))
const reading = computed(() => readingOf(route.query['reading']))
const scrolledTo = ref(0)
const { summary, counting, fresh, problem, version, takeIn } = useSummary(
  text,
  // What takes long to reckon is not reckoned anew at every save.
  () => openId.value === null && scrolledTo.value < 10 && reading.value !== 'work',
)
// What opens beside the list is fetched once that is told, so that a press need not wait for it.
watch(counting, () => void fetchPane().catch(() => undefined), { once: true })
const gaps = computed(() => (counting.value ? [] : (summary.value?.gaps ?? [])))
const names = useVocabulary(
  computed(() => summary.value?.recordLabels ?? {}),
  computed(() => summary.value?.runLabels ?? {}),
  computed(() => summary.value?.storyLabels ?? {}),
  computed(() => summary.value?.caseLabels ?? {}),
)
/** Long runs stand in one line unless the link says otherwise. */
const together = computed({
  get: () => route.query['runs'] !== 'apart',
  set: (on) => {
    const { runs: _, ...rest } = route.query
    void router.replace({ query: on ? rest : { ...rest, runs: 'apart' } })
  },
})
const layouts = { saves: useLayout('saves', saveColumns), changes: useLayout('changes', changeColumns) }
const layout = computed(() =>
  reading.value === 'saves' || reading.value === 'changes' ? (layouts[reading.value] as ListLayout<string>) : null,
)
/** The list whose columns and order a file has: the one that is open, else that of saves. */
const exported = computed(() => (reading.value === 'changes' ? 'changes' : 'saves'))
const csvAddress = computed(() => {
  const size = (exported.value === 'changes' ? summary.value?.changes : summary.value?.saves) ?? Infinity
  const ordered = reading.value === exported.value && size <= mostSorted
  const sort = ordered && typeof route.query['sort'] === 'string' ? route.query['sort'] : ''
  return addressOf(routes.exportChanges, {
    query: {
      scope: text.value,
      list: exported.value,
      columns: exportColumnsFor(exported.value, layouts[exported.value].shown.value).join(','),
      zone: readerZone,
      ...(sort === '' ? {} : { sort: sort.replace(/^-/, ''), descending: sort.startsWith('-') ? '1' : '0' }),
    } as never,
  })
})

const asked = useAskedWork()
const workAsked = computed(() => asked.value ?? workText(firstWork.pivot))
const workAddress = (to: typeof routes.exportWork | typeof routes.exportWorkbook) =>
  addressOf(to, { query: { scope: text.value, work: workAsked.value, zone: readerZone } as never })

/** What comes of what is on the screen, as a watch: it has no time, and nothing became of it yet. */
const watchLink = computed(() => ({
  path: '/watches',
  query: { ...scopeQuery(withoutPart(withoutPart(parsed.value.scope, 'when'), 'state')), watch: 'new' },
}))
/** What is on the screen, as a pack. */
const packLink = computed(() => {
  const { save: _, reading: __, sort: ___, runs: ____, work: _____, ...scope } = route.query
  const columns = exportColumnsFor(exported.value, layouts[exported.value].shown.value).join(',')
  const work = reading.value === 'work' ? { work: workAsked.value } : {}
  return { path: '/evidence/making', query: { ...scope, ...work, columns } }
})
useEventListener('keydown', (event) => {
  if (event.key !== 'e' || event.ctrlKey || event.metaKey || event.altKey || isWriting(event.target)) return
  if (session.may('packs.make') && !problem.value) void router.push(packLink.value)
})
const provedAddress = computed(() => addressOf(routes.exportProved, { query: { scope: text.value } as never }))

function open(id: string | null) {
  const { save: _, ...rest } = route.query
  void router.replace({ query: id === null ? rest : { ...rest, save: id } })
}
/** An order is one reading's. */
function read(id: ReadingId) {
  const { reading: _, sort: __, work: ___, ...rest } = route.query
  void router.replace({ query: id === 'saves' ? rest : { ...rest, reading: id } })
}
/** A count leads to the saves that it counts. */
function show(scope: Scope) {
  set(scope, { reading: null, sort: null, work: null })
}

const markProblem = ref<ProblemBody | null>(null)
async function mark(saves: Save[]) {
  if (!session.may('changes.mark')) return
  try {
    const on = !saves.every((save) => save.marks.includes('reviewed'))
    await call(routes.markSaves, { body: { saveIds: saves.map((save) => save.id), mark: 'reviewed', on } })
    markProblem.value = null
    await takeIn()
  } catch (error) {
    markProblem.value = problemOf(error)
  }
}

/** What is kept under a name: the scope, and what is worked out of it. */
const keepable = computed(() => {
  const entries = new URLSearchParams(text.value)
  if (reading.value === 'work') entries.set('work', workAsked.value)
  return entries.toString()
})
function openNamed(kept: string) {
  const entries = new URLSearchParams(kept)
  const work = entries.get('work')
  entries.delete('work')
  const { scope } = parseScope(entries)
  if (work !== null) set(scope, { reading: 'work', work, save: null })
  else set(scope, reading.value === 'work' ? { reading: null, work: null } : {})
}
</script>

<template>
  <div class="bar">
    <ScopeSentence class="said" :scope="parsed.scope" :names="names" @change="set" />
    <span class="tail">
      <template v-if="counting">counting … · </template
      ><template v-else-if="summary"
        >{{ summary.about ? 'more than ' : '' }}{{ counted(summary.saves, 'save') }} ·
        {{ counted(summary.changes, 'change') }} · </template
      >{{ readerZone }}
    </span>
    <span class="kept"
      ><RouterLink v-if="session.may('watches.edit')" class="watch" :to="watchLink">Watch this</RouterLink>
      <NamedScopes :scope="keepable" @open="openNamed"
    /></span>
  </div>
  <ProblemNote v-if="problem" :problem="problem" class="problem">
    <p v-if="problem.code === 'bad-scope'">
      <button class="plain mend" @click="set(parsed.scope)">Drop what was not understood and show the rest</button>
    </p>
    <p v-else><button class="plain mend" @click="takeIn">Try again</button></p>
  </ProblemNote>
  <SplitPane name="save" label="the opened save" :open="openId !== null">
    <ActivityRibbon
      v-if="!problem && reading !== 'time' && reading !== 'around' && reading !== 'work'"
      :scope="parsed.scope"
      :text="text"
      :version="version"
      @narrow="set"
      ><GapNote v-if="gaps.length > 0" :gaps="gaps" :names="names"
    /></ActivityRibbon>
    <p v-else-if="gaps.length > 0" class="gaps"><GapNote :gaps="gaps" :names="names" /></p>
    <div class="acts">
      <div class="readings" role="tablist" aria-label="Readings">
        <button
          v-for="one in readings.filter((other) => other.id !== 'around' || session.may('events.read'))"
          :key="one.id"
          class="plain"
          role="tab"
          :aria-selected="reading === one.id"
          :class="{ on: reading === one.id }"
          @click="read(one.id)"
        >
          {{ one.title }}
        </button>
      </div>
      <button v-if="fresh > 0" class="plain fresh" @click="takeIn">
        {{ counted(fresh, 'new save') }} · take {{ fresh === 1 ? 'it' : 'them' }} in
      </button>
      <span class="space" />
      <Checkbox v-if="reading === 'saves' && !problem" v-model:checked="together">Runs in one line</Checkbox>
      <ColumnChooser v-if="layout" :layout="layout" />
      <SetBackAll
        v-if="summary && !problem && session.may('corrections.draft') && reading !== 'around'"
        :scope="text"
        :summary="summary"
        :open-at-first="route.query['act'] === 'set-back'"
      />
      <PressPopover v-if="session.may('changes.export') && !problem && reading !== 'around'" title="Export">
        <p v-if="reading === 'work'" class="way">
          <a :href="workAddress(routes.exportWorkbook)" download>What was worked out, as a workbook</a> ·
          <a :href="workAddress(routes.exportWork)" download>as CSV</a><br /><span class="quiet"
            >the figures as they stand below, numbers as numbers</span
          >
        </p>
        <p class="way">
          <a :href="csvAddress" download>Export as CSV</a><br /><span class="quiet"
            >a line a change, with the columns and in the order of the list of {{ exported }}</span
          >
        </p>
        <p v-if="session.may('packs.make')" class="way">
          <RouterLink :to="packLink">Make an evidence pack …</RouterLink><br /><span class="quiet"
            >to be handed over: to read, and to be proved without Spoor</span
          >
        </p>
        <p v-if="session.may('custody.read')" class="way">
          <a :href="provedAddress" download>Export with proofs</a><br /><span class="quiet"
            >a line a save, to be checked by spoor-verify without Spoor</span
          >
        </p>
      </PressPopover>
    </div>
    <ProblemNote v-if="markProblem" :problem="markProblem" class="problem" />
    <component
      :is="
        {
          saves: SavesReading,
          changes: ChangesReading,
          days: DaysReading,
          records: RecordsReading,
          pairs: PairsReading,
          time: TimeReading,
          work: WorkReading,
          around: AroundReading,
        }[reading]
      "
      v-if="!problem"
      :scope="(reading === 'saves' || reading === 'changes' ? text : parsed.scope) as never"
      :text="text"
      :version="version"
      :names="names"
      :open-id="openId"
      :total="summary?.saves ?? -1"
      :changes="summary?.changes ?? -1"
      :together="together"
      :layout="layout as never"
      @open="open"
      @show="show"
      @mark="mark"
      @scrolled="(top: number) => (scrolledTo = top)"
    >
      <template #empty>
        <div class="state">
          <template v-if="Object.keys(parsed.scope).length > 0">
            <p>No changes in this scope.</p>
            <p class="quiet">Remove a part of the sentence above to see more.</p>
          </template>
          <template v-else-if="names.fields.length === 0">
            <p>No changes yet, because no field is tracked.</p>
            <p v-if="session.may('tracking.read')">
              <RouterLink to="/tracking">Switch fields on under Tracking</RouterLink>
            </p>
          </template>
          <template v-else>
            <p>No changes yet.</p>
            <p class="quiet">They appear here within two seconds of being made. Tracking never works backwards.</p>
          </template>
        </div>
      </template>
    </component>
    <template #pane
      ><SavePane v-if="openId" :save-id="openId" :names="names" @close="open(null)" @open="open" @marked="takeIn"
    /></template>
  </SplitPane>
</template>

<style scoped>
.bar {
  flex: none;
  background: var(--panel);
  border-bottom: 1px solid var(--line);
  padding: 7px 18px 6px;
  display: grid;
  grid-template: auto auto auto / minmax(0, 1fr) auto auto;
  gap: 2px 14px;
  align-items: baseline;
}
.said {
  grid-area: 1 / 1 / 3 / 2;
}
.tail {
  grid-area: 1 / 2 / 2 / 4;
  color: var(--soft);
  font-size: 13px;
  white-space: nowrap;
  text-align: right;
}
.kept .watch {
  margin-right: 14px;
}
.kept {
  justify-self: end;
  grid-area: 2 / 3 / 3 / 4;
  font-size: 13px;
  white-space: nowrap;
}
.gaps {
  flex: none;
  display: flex;
  margin: 0;
  padding: 3px 18px;
  font-size: 12px;
  background: var(--panel);
}
.problem {
  margin: 10px 18px;
}
.mend {
  color: var(--pine);
  text-decoration: underline;
  margin-top: 6px;
}
.acts {
  flex: none;
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 4px 12px;
  padding: 1px 14px 1px 18px;
  min-height: 32px;
  border-bottom: 1px solid var(--line-soft);
  background: var(--raised);
  font-size: 13px;
}
.acts :deep(.ant-checkbox-wrapper) {
  font-size: 13px;
}
.readings {
  display: flex;
  gap: 14px;
  align-self: stretch;
}
.readings button {
  white-space: nowrap;
  color: var(--soft);
  border-bottom: 2px solid transparent;
}
.readings .on {
  color: var(--ink);
  font-weight: 650;
  border-color: var(--pine);
}
.way {
  margin: 0 0 6px;
  font-size: 13px;
}
.fresh {
  white-space: nowrap;
  color: var(--pine);
  font-weight: 600;
}
.space {
  flex: 1;
}
.state {
  padding: 60px;
  text-align: center;
}
</style>
