<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { routes, saveSorts, type Reference, type Save, type SaveSort } from '@spoor/contract'
import { grouped } from '@spoor/core'
import { computed, nextTick, ref, watch } from 'vue'
import { call } from '../api/client.ts'
import ColumnHeads from '../frame/ColumnHeads.vue'
import { track, type ListLayout } from '../frame/layout.ts'
import { useOrder } from '../frame/order.ts'
import OrderNote from '../frame/OrderNote.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useRows } from '../frame/rows.ts'
import { useTray } from '../frame/tray.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { labelsOf } from '../value/labels.ts'
import { dayOf, dayText } from '../value/time.ts'
import type { SaveColumn } from './columns.ts'
import SaveRow from './SaveRow.vue'
import { usePages } from './saves-list.ts'

/** The scope save by save: newest first with a heading a day, or in an order of the reader's. */
export interface Props {
  scope: string
  version: number
  names: NamedVocabulary
  openId: string | null
  total: number
  layout: ListLayout<SaveColumn>
}
const props = defineProps<Props>()
const emit = defineEmits<{ open: [saveId: string | null]; scrolled: [top: number]; mark: [saves: Save[]] }>()
const tray = useTray()
const { order, only, refused, press, reset } = useOrder(
  saveSorts,
  computed(() => props.total),
)
const daily = computed(() => order.value.by === 'time')
const references = ref<Reference[]>([])
const labelOf = computed(() => labelsOf(references.value))
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
  computed(() => `${props.version} ${order.value.by} ${order.value.descending} ${props.scope}`),
  async (after, signal) => {
    const query = {
      scope: props.scope,
      limit: pageSize,
      sort: order.value.by as SaveSort,
      descending: order.value.descending ? ('1' as const) : ('0' as const),
      ...(after === undefined ? {} : { after }),
    }
    const page = await call(routes.listSaves, { query, signal })
    references.value = after === undefined ? page.references : [...references.value, ...page.references]
    return { items: page.saves, next: page.next }
  },
)

type Row = { row: 'day'; at: string } | { row: 'save'; index: number; save: Save }
const rows = computed<Row[]>(() =>
  saves.value.flatMap((save, index): Row[] => {
    const before = saves.value[index - 1]
    const sameDay = before && dayOf(before.at) === dayOf(save.at)
    return sameDay || !daily.value
      ? [{ row: 'save', index, save }]
      : [
          { row: 'day', at: save.at },
          { row: 'save', index, save },
        ]
  }),
)
const { height, visible, scrollTo } = useRows(rows, scroller, more)

const timeWidth = 118
/** Without headings a day the time has to say it. */
const template = computed(
  () =>
    `16px ${props.layout.shown.value.map((column) => (column.id === 'time' && !daily.value ? `${Math.max(column.width, timeWidth)}px` : track(column))).join(' ')}`,
)

const openIndex = computed(() => saves.value.findIndex((save) => save.id === props.openId))
const focusAt = ref(0)
watch(openIndex, (index) => index >= 0 && (focusAt.value = index))
watch(saves, (now, before) => now[0]?.id !== before[0]?.id && openIndex.value < 0 && (focusAt.value = 0))

async function step(by: number) {
  focusAt.value = Math.min(saves.value.length - 1, Math.max(0, focusAt.value + by))
  const at = rows.value.findIndex((row) => row.row === 'save' && row.index === focusAt.value)
  scrollTo(at)
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
  <ProblemNote v-if="problem && problem.code !== 'bad-scope'" :problem="problem" class="note">
    <button v-if="problem.code === 'too-many-to-sort'" class="plain mend" @click="reset">Show the newest first</button>
  </ProblemNote>
  <div
    ref="scroller"
    class="rows"
    :class="{ stale }"
    :aria-busy="loading"
    role="grid"
    aria-label="Saves"
    :aria-rowcount="total"
    tabindex="0"
    :style="{ '--save-columns': template, '--least': `${layout.least.value + 60}px` }"
    @scroll="emit('scrolled', scroller?.scrollTop ?? 0)"
  >
    <ColumnHeads
      class="line"
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
        :key="row.row === 'day' ? row.at : row.save.id"
        class="item"
        :style="{ transform: `translateY(${start}px)` }"
        role="presentation"
      >
        <div v-if="row.row === 'day'" class="day" role="row">
          <span role="gridcell">{{ dayText(row.at) }}</span>
        </div>
        <SaveRow
          v-else
          :save="row.save"
          :names="names"
          :columns="layout.shown.value"
          :dated="!daily"
          :label-of="labelOf"
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
    <p v-if="next !== null" class="paper-only">
      The first {{ grouped(saves.length) }} saves. More are in this scope; take them out as a file.
    </p>
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
.line {
  display: grid;
  grid-template-columns: var(--save-columns);
  column-gap: 10px;
  align-items: center;
  height: 26px;
  min-width: var(--least);
  padding: 0 14px 0 18px;
  position: sticky;
  top: 0;
  z-index: 1;
  font-size: 12.5px;
  white-space: nowrap;
  background: var(--raised);
  border-bottom: 1px solid var(--line-soft);
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
