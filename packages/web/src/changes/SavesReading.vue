<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { useEventListener } from '@vueuse/core'
import { routes, type Save } from '@spoor/contract'
import { computed, nextTick, ref, watch } from 'vue'
import { call } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useTray } from '../frame/tray.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { dayOf, dayText } from '../value/time.ts'
import { useColumns, type ColumnId } from './columns.ts'
import SaveRow from './SaveRow.vue'
import { usePages } from './saves-list.ts'

/** The scope save by save, newest first, a heading a day. */
export interface Props {
  scope: string
  version: number
  names: NamedVocabulary
  openId: string | null
  total: number
}
const props = defineProps<Props>()
const emit = defineEmits<{ open: [saveId: string | null]; scrolled: [top: number]; mark: [saves: Save[]] }>()
const tray = useTray()
const columns = useColumns()
const scroller = ref<HTMLElement | null>(null)
const pageSize = '100'
const {
  items: saves,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<Save>(
  computed(() => `${props.version} ${props.scope}`),
  async (after, signal) => {
    const query = { scope: props.scope, limit: pageSize, ...(after === undefined ? {} : { after }) }
    const page = await call(routes.listSaves, { query, signal })
    return { items: page.saves, next: page.next }
  },
)

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
  () => virtual.value.getVirtualItems().at(-1)?.index,
  (last) => last !== undefined && last > rows.value.length - 30 && void more(),
)

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

const openIndex = computed(() => saves.value.findIndex((save) => save.id === props.openId))
const focusAt = ref(0)
watch(openIndex, (index) => index >= 0 && (focusAt.value = index))
watch(saves, (now, before) => now[0]?.id !== before[0]?.id && openIndex.value < 0 && (focusAt.value = 0))

async function step(by: number) {
  focusAt.value = Math.min(saves.value.length - 1, Math.max(0, focusAt.value + by))
  const at = rows.value.findIndex((row) => row.row === 'save' && row.index === focusAt.value)
  virtual.value.scrollToIndex(at)
  const save = saves.value[focusAt.value]
  if (props.openId !== null && save) emit('open', save.id)
  await nextTick()
}

useEventListener('keydown', (event: KeyboardEvent) => {
  const target = event.target as HTMLElement
  if (event.ctrlKey || event.metaKey || event.altKey) return
  if (target.closest('input:not([type=checkbox]), textarea, .ant-popover, [role=separator], [role=slider]')) return
  const save = saves.value[focusAt.value]
  const acts: Record<string, () => void> = {
    j: () => void step(1),
    ArrowDown: () => void step(1),
    k: () => void step(-1),
    ArrowUp: () => void step(-1),
    Enter: () => save && emit('open', save.id),
    Escape: () => emit('open', null),
    x: () => save && tray.toggle(save),
    // An opened save answers to the key itself.
    m: () => save && props.openId === null && emit('mark', [save]),
  }
  const act = acts[event.key]
  if (!act || (event.key === 'Enter' && target.closest('button, a'))) return
  event.preventDefault()
  act()
})
</script>

<template>
  <ProblemNote v-if="problem && problem.code !== 'bad-scope'" :problem="problem" class="note" />
  <div
    ref="scroller"
    class="rows"
    :class="{ stale }"
    :aria-busy="loading"
    role="grid"
    aria-label="Saves"
    :aria-rowcount="total"
    tabindex="0"
    :style="{ '--save-columns': template }"
    @scroll="emit('scrolled', scroller?.scrollTop ?? 0)"
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
          @open="emit('open', row.save.id)"
          @pick="tray.toggle(row.save)"
        />
      </div>
    </div>
    <p v-if="loading && saves.length === 0" class="state quiet">Reading the ledger …</p>
    <slot v-else-if="!problem && saves.length === 0" name="empty" />
    <p v-if="next !== null && saves.length > 0 && loading" class="quiet more">Reading more …</p>
  </div>
</template>

<style scoped>
.note {
  margin: 10px 18px;
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
