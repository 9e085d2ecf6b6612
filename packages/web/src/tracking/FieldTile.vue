<script setup lang="ts">
import type { TrackedField } from '@spoor/contract'
import type { KeepOrOff } from '@spoor/core'
import { computed } from 'vue'
import { fullTime } from '../value/time.ts'

/** One field as a tile: its shape says how it is kept, a ring that a change of that is staged. */
export interface Props {
  field: TrackedField
  keep: KeepOrOff
  disabled: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ toggle: [] }>()
const staged = computed(() => props.keep !== props.field.keep)
const title = computed(() => {
  const lines = [`${props.field.column} ${props.field.dataType}${props.field.partOfKey ? ', part of the key' : ''}`]
  if (props.field.comment) lines.push(props.field.comment)
  lines.push(props.field.trackedSince ? `Tracked since ${fullTime(props.field.trackedSince)}` : 'Not tracked')
  return lines.join('\n')
})
</script>

<template>
  <button
    class="plain tile"
    :class="[keep, { staged }]"
    role="checkbox"
    :aria-checked="keep !== 'off'"
    :title="title"
    :disabled="disabled"
    @click="emit('toggle')"
  >
    {{ field.name }}<span v-if="staged" class="visually-hidden"> (staged)</span>
  </button>
</template>

<style scoped>
.tile {
  height: 24px;
  padding: 0 8px;
  font-size: 12.5px;
  line-height: 22px;
  border: 1.2px solid var(--faint);
  border-radius: 3px;
  color: var(--soft);
  background: var(--panel);
  white-space: nowrap;
}
.values {
  background: var(--moss-wash);
  border-color: var(--moss);
  color: var(--ink);
}
.fingerprint {
  border-color: var(--moss);
  color: var(--ink);
  background: linear-gradient(135deg, var(--moss-wash) 0 50%, var(--panel) 50%);
}
.staged {
  outline: 2px solid var(--pine);
  outline-offset: 1px;
}
.tile:focus-visible {
  outline: 3px solid var(--pine);
  outline-offset: 2px;
}
.tile:disabled {
  cursor: not-allowed;
  color: var(--faint);
}
</style>
