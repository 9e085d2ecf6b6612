<script setup lang="ts">
import { useEventListener, useLocalStorage } from '@vueuse/core'
import { ref } from 'vue'

/** A view with a pane beside it whose width can be dragged, or set with the arrow keys on its edge. */
export interface Props {
  /** Under which the width is remembered. */
  name: string
  open: boolean
  width?: number
  label: string
}
const props = withDefaults(defineProps<Props>(), { width: 452 })

const least = 320
const width = useLocalStorage(`spoor.pane.${props.name}`, props.width)
const dragging = ref(false)
const most = () => Math.max(least, window.innerWidth - 480)
const set = (value: number) => (width.value = Math.round(Math.min(most(), Math.max(least, value))))

useEventListener('pointermove', (event) => dragging.value && set(window.innerWidth - event.clientX))
useEventListener('pointerup', () => (dragging.value = false))

function onKey(event: KeyboardEvent) {
  if (event.key === 'ArrowLeft') set(width.value + 24)
  else if (event.key === 'ArrowRight') set(width.value - 24)
  else return
  event.preventDefault()
}
</script>

<template>
  <div class="split" :class="{ dragging }">
    <section class="main"><slot /></section>
    <template v-if="open">
      <div
        class="edge"
        role="separator"
        aria-orientation="vertical"
        tabindex="0"
        :aria-label="`Width of ${label}`"
        :aria-valuenow="width"
        :aria-valuemin="least"
        @pointerdown.prevent="dragging = true"
        @keydown="onKey"
      />
      <aside :aria-label="label" :style="{ width: `min(${width}px, 60vw)` }"><slot name="pane" /></aside>
    </template>
  </div>
</template>

<style scoped>
.split {
  flex: 1;
  min-height: 0;
  display: flex;
}
.main {
  flex: 1;
  min-width: 0;
  display: flex;
  flex-direction: column;
}
.edge {
  flex: none;
  width: 5px;
  margin: 0 -2px;
  z-index: 1;
  cursor: col-resize;
  border-left: 1px solid var(--line);
  margin-left: 0;
}
aside {
  flex: none;
  background: var(--panel);
  display: flex;
  flex-direction: column;
  min-height: 0;
}
.dragging {
  user-select: none;
}
@media (max-width: 700px) {
  .split {
    flex-direction: column;
  }
  .edge {
    display: none;
  }
  aside {
    width: 100% !important;
    max-height: 60vh;
    border-top: 2px solid var(--line);
  }
}
</style>
