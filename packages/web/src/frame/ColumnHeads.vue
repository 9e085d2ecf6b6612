<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import { ref } from 'vue'
import type { ListLayout } from './layout.ts'
import type { Order } from './order.ts'

/** The heads of a list's columns: a press puts the list in that order, an edge makes a column wider or narrower. */
export interface Props {
  layout: ListLayout<string>
  order: Order
  /** Columns that can be an order at all. */
  sortable: readonly string[]
  /** Why only the order of time holds now; empty when any does. */
  only: string
}
const props = defineProps<Props>()
const emit = defineEmits<{ order: [id: string]; refused: [] }>()

const dragged = ref<{ id: string; from: number; width: number } | null>(null)
const widthAt = (event: Event) => (event.target as HTMLElement).parentElement!.offsetWidth
function begin(id: string, event: PointerEvent) {
  dragged.value = { id, from: event.clientX, width: widthAt(event) }
}
useEventListener(
  'pointermove',
  (event) =>
    dragged.value && props.layout.resize(dragged.value.id, dragged.value.width + event.clientX - dragged.value.from),
)
useEventListener('pointerup', () => (dragged.value = null))
function step(id: string, event: KeyboardEvent) {
  const by = { ArrowLeft: -16, ArrowRight: 16 }[event.key]
  if (by === undefined) return
  event.preventDefault()
  event.stopPropagation()
  props.layout.resize(id, widthAt(event) + by)
}
const press = (id: string) => (props.only !== '' && id !== 'time' ? emit('refused') : emit('order', id))
</script>

<template>
  <div class="heads" :class="{ dragging: dragged }" role="row">
    <slot name="before" />
    <span
      v-for="column in layout.shown.value"
      :key="column.id"
      class="head"
      role="columnheader"
      :aria-sort="order.by === column.id ? (order.descending ? 'descending' : 'ascending') : undefined"
    >
      <button
        v-if="sortable.includes(column.id)"
        class="plain sort"
        :class="{ off: only !== '' && column.id !== 'time' }"
        :title="column.id === 'time' || only === '' ? `Order by ${column.title.toLowerCase()}` : only"
        @click="press(column.id)"
      >
        {{ column.title
        }}<span v-if="order.by === column.id" aria-hidden="true">{{ order.descending ? ' ↓' : ' ↑' }}</span>
      </button>
      <span v-else>{{ column.title }}</span>
      <span
        class="edge"
        role="separator"
        aria-orientation="vertical"
        tabindex="0"
        :aria-label="`Width of ${column.title}`"
        :aria-valuenow="column.width"
        @pointerdown.prevent="begin(column.id, $event)"
        @keydown="step(column.id, $event)"
      />
    </span>
  </div>
</template>

<style scoped>
.head {
  position: relative;
  color: var(--soft);
  overflow: visible !important;
  min-width: 0;
}
.sort {
  color: inherit;
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
}
.sort:hover:not(.off) {
  color: var(--pine);
}
.head[aria-sort] .sort {
  color: var(--ink);
  font-weight: 600;
}
.off {
  cursor: default;
}
.edge {
  position: absolute;
  top: -4px;
  bottom: -4px;
  right: -8px;
  width: 7px;
  cursor: col-resize;
}
.edge::after {
  content: '';
  position: absolute;
  inset: 3px 3px;
  background: var(--line);
}
.edge:hover::after,
.edge:focus-visible::after {
  background: var(--pine);
}
.dragging {
  user-select: none;
  cursor: col-resize;
}
</style>
