<script setup lang="ts">
import Checkbox from 'ant-design-vue/es/checkbox'
import type { ListLayout } from './layout.ts'
import PressPopover from './PressPopover.vue'

/** Which columns a list has and in which order; kept for the person. */
export interface Props {
  layout: ListLayout<string>
}
defineProps<Props>()
</script>

<template>
  <PressPopover title="Columns">
    <ol aria-label="Columns">
      <li v-for="(column, at) in layout.all.value" :key="column.id">
        <Checkbox :checked="!column.hidden" :disabled="column.fixed ?? false" @change="layout.toggle(column.id)">{{
          column.title
        }}</Checkbox>
        <span>
          <button
            class="plain way"
            :disabled="at === 0"
            :aria-label="`${column.title} one place earlier`"
            @click="layout.move(column.id, -1)"
          >
            ↑
          </button>
          <button
            class="plain way"
            :disabled="at === layout.all.value.length - 1"
            :aria-label="`${column.title} one place later`"
            @click="layout.move(column.id, 1)"
          >
            ↓
          </button>
        </span>
      </li>
    </ol>
    <button class="plain reset" @click="layout.reset()">As they were at first</button>
  </PressPopover>
</template>

<style scoped>
ol {
  list-style: none;
  margin: 0 0 6px;
  padding: 0;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 26px;
}
.way {
  padding: 0 5px;
  color: var(--pine);
}
.way:disabled {
  color: var(--faint);
  cursor: default;
}
.reset {
  color: var(--pine);
}
</style>
