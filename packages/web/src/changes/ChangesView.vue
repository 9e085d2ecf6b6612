<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Popover from 'ant-design-vue/es/popover'
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useEventListener } from '@vueuse/core'
import { routes, type Save, type Summary } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { addressOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import SplitPane from '../frame/SplitPane.vue'
import { useTray } from '../frame/tray.ts'
import ScopeSentence from '../scope/ScopeSentence.vue'
import { useUrlScope } from '../scope/url-scope.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { dayOf, dayText, readerZone, shortTime } from '../value/time.ts'
import { choosable, exportColumnsFor, useColumns, type ColumnId } from './columns.ts'
import SavePane from './SavePane.vue'
import SaveRow from './SaveRow.vue'
import { useSavesList } from './saves-list.ts'

const route = useRoute()
const router = useRouter()
const session = useSession()
const tray = useTray()
const { parsed, text, set } = useUrlScope()
const scroller = ref<HTMLElement | null>(null)
const openId = computed(() => (typeof route.query['save'] === 'string' ? route.query['save'] : null))
const calm = () => openId.value === null && (scroller.value?.scrollTop ?? 0) < 10
const list = useSavesList(text, calm)
const { saves, next, loading, problem, summary, fresh, more, takeIn } = list
const names = useVocabulary(computed(() => summary.value?.recordLabels ?? {}))
const columns = useColumns()

type Row = { row: 'day'; at: string } | { row: 'save'; index: number; save: Save }
const rows = computed<Row[]>(() => saves.value.flatMap((save, index): Row[] => {
  const before = saves.value[index - 1]
  const sameDay = before && dayOf(before.at) === dayOf(save.at)
  return sameDay ? [{ row: 'save', index, save }] : [{ row: 'day', at: save.at }, { row: 'save', index, save }]
})) // prettier-ignore
const rowHeight = 28
const virtual = useVirtualizer(
  computed(() => ({
    count: rows.value.length,
    getScrollElement: () => scroller.value,
    estimateSize: () => rowHeight,
    overscan: 12,
  })),
)
const visible = computed(() =>
  virtual.value.getVirtualItems().flatMap((item) => {
    const row = rows.value[item.index]
    return row ? [{ item, row }] : []
  }),
)
watch(
  () => virtual.value.getVirtualItems().at(-1)?.index, (last) => last !== undefined && last > rows.value.length - 30 && void more()) // prettier-ignore

const template = computed(() => {
  const widths: Record<ColumnId, string> = {
    who: '160px',
    channel: '86px',
    reason: 'minmax(80px, 160px)',
    save: '72px',
  }
  const has = (id: ColumnId) => (columns.value.includes(id) ? widths[id] : '')
  return `16px 44px ${has('who')} minmax(150px, 200px) minmax(200px, 1fr) ${has('channel')} ${has('reason')} ${has('save')}`
})
const csvAddress = computed(() =>
  addressOf(routes.exportChanges, {
    query: { scope: text.value, columns: exportColumnsFor(columns.value).join(','), zone: readerZone } as never,
  }),
)

function open(id: string | null) {
  const { save: _, ...rest } = route.query
  void router.replace({ query: id === null ? rest : { ...rest, save: id } })
}

const openIndex = computed(() => saves.value.findIndex((save) => save.id === openId.value))
const focusAt = ref(0)
watch(openIndex, (index) => index >= 0 && (focusAt.value = index))
watch(saves, (now, before) => now[0]?.id !== before[0]?.id && openIndex.value < 0 && (focusAt.value = 0)) // prettier-ignore

async function step(by: number) {
  focusAt.value = Math.min(saves.value.length - 1, Math.max(0, focusAt.value + by))
  const at = rows.value.findIndex((row) => row.row === 'save' && row.index === focusAt.value)
  virtual.value.scrollToIndex(at)
  const save = saves.value[focusAt.value]
  if (openId.value !== null && save) open(save.id)
  await nextTick()
}

function onKey(event: KeyboardEvent) {
  const target = event.target as HTMLElement
  if (
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    target.closest('input:not([type=checkbox]), textarea, .ant-popover, [role=separator]')
  )
    return
  const save = saves.value[focusAt.value]
  const acts: Record<string, () => void> = {
    j: () => void step(1),
    ArrowDown: () => void step(1),
    k: () => void step(-1),
    ArrowUp: () => void step(-1),
    Enter: () => save && !target.closest('button, a') && open(save.id),
    Escape: () => open(null),
    x: () => save && tray.toggle(save),
  }
  const act = acts[event.key]
  if (!act || (event.key === 'Enter' && target.closest('button, a'))) return
  event.preventDefault()
  act()
}
useEventListener('keydown', onKey)

function gapWords(gaps: Summary['gaps']): string {
  return gaps
    .map(({ typeId, fieldId, from, to, because }) => {
      const spell = to === null ? `since ${shortTime(from)}` : `from ${shortTime(from)} to ${shortTime(to)}`
      return `${names.value.fieldName(fieldId)} of ${names.value.type(typeId) ?? `record type ${typeId}`} ${spell}${because ? ` (${because})` : ''}`
    })
    .join('; ')
}

function toggleColumn(id: ColumnId) {
  columns.value = columns.value.includes(id) ? columns.value.filter((one) => one !== id) : [...columns.value, id]
}
</script>

<template>
  <div class="bar">
    <ScopeSentence :scope="parsed.scope" :names="names" @change="set" />
    <span class="tail">
      <template v-if="summary"
        >{{ counted(summary.saves, 'save') }} · {{ counted(summary.changes, 'change') }} · </template
      >{{ readerZone }}
    </span>
  </div>
  <ProblemNote v-if="problem" :problem="problem" class="problem">
    <p v-if="problem.code === 'bad-scope'">
      <button class="plain mend" @click="set(parsed.scope)">Drop what was not understood and show the rest</button>
    </p>
    <p v-else><button class="plain mend" @click="takeIn">Try again</button></p>
  </ProblemNote>
  <p v-if="summary && summary.gaps.length > 0" class="gaps attention">
    <b>Not on the trail:</b> {{ gapWords(summary.gaps.slice(0, 3))
    }}<template v-if="summary.gaps.length > 3"> and {{ counted(summary.gaps.length - 3, 'more gap') }}</template
    >.
  </p>
  <SplitPane name="save" label="the opened save" :open="openId !== null">
    <div class="acts">
      <span class="reading">Saves, newest first</span>
      <button v-if="fresh > 0" class="plain fresh" @click="takeIn">
        {{ counted(fresh, 'new save') }} · take {{ fresh === 1 ? 'it' : 'them' }} in
      </button>
      <span class="space" />
      <Popover trigger="click" placement="bottomRight" :arrow="false">
        <Button size="small">Columns</Button>
        <template #content>
          <div v-for="column in choosable" :key="column.id">
            <Checkbox :checked="columns.includes(column.id)" @change="toggleColumn(column.id)">{{
              column.title
            }}</Checkbox>
          </div>
        </template>
      </Popover>
      <Button v-if="session.may('changes.export') && !problem" size="small" :href="csvAddress" download
        >Export as CSV</Button
      >
    </div>
    <div
      ref="scroller"
      class="rows"
      role="grid"
      aria-label="Saves"
      :aria-rowcount="summary?.saves ?? -1"
      tabindex="0"
      :style="{ '--save-columns': template }"
    >
      <div :style="{ height: `${virtual.getTotalSize()}px`, position: 'relative' }" role="rowgroup">
        <div
          v-for="{ item, row } in visible"
          :key="row.row === 'day' ? row.at : row.save.id"
          class="item"
          :style="{ transform: `translateY(${item.start}px)` }"
          role="presentation"
        >
          <div v-if="row.row === 'day'" class="day" role="row">
            <span role="gridcell">{{ dayText(row.at) }}</span>
          </div>
          <SaveRow
            v-else
            :save="row.save"
            :names="names"
            :columns="columns"
            :picked="tray.holds(row.save)"
            :open="row.save.id === openId"
            :class="{ at: row.index === focusAt }"
            @open="open(row.save.id)"
            @pick="tray.toggle(row.save)"
          />
        </div>
      </div>
      <p v-if="loading && saves.length === 0" class="state quiet">Reading the ledger …</p>
      <div v-else-if="!problem && saves.length === 0" class="state">
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
      <p v-if="next !== null && saves.length > 0 && loading" class="quiet more">Reading more …</p>
    </div>
    <template #pane
      ><SavePane v-if="openId" :save-id="openId" :names="names" @close="open(null)" @open="open"
    /></template>
  </SplitPane>
</template>

<style scoped>
.bar {
  flex: none;
  background: var(--panel);
  border-bottom: 1px solid var(--line);
  padding: 11px 18px 10px;
  display: flex;
  align-items: baseline;
  gap: 24px;
}
.tail {
  margin-left: auto;
  color: var(--soft);
  font-size: 13px;
  white-space: nowrap;
}
.gaps {
  flex: none;
  margin: 0;
  padding: 5px 18px;
  font-size: 13px;
  background: var(--plum-wash);
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
  align-items: center;
  gap: 14px;
  padding: 6px 14px 6px 18px;
  border-bottom: 1px solid var(--line-soft);
  background: var(--raised);
  font-size: 13px;
}
.reading {
  font-weight: 650;
}
.fresh {
  color: var(--pine);
  font-weight: 600;
}
.space {
  flex: 1;
}
.rows {
  flex: 1;
  overflow: auto;
  background: var(--ground);
  min-height: 0;
}
.item {
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
.rows:focus-visible .at {
  outline: 2px solid var(--pine);
  outline-offset: -2px;
}
.state {
  padding: 60px;
  text-align: center;
}
.more {
  padding: 8px 18px;
}
</style>
