<script setup lang="ts">
import type { CapturedValue } from '@spoor/core'
import { computed } from 'vue'
import { shownValue } from './words.ts'

/** One value with its mark: a hollow ring for what was there before, a filled disc for what came after. */
export interface Props {
  value: CapturedValue
  baseType: string
  side: 'before' | 'after'
  cut?: boolean
  whole?: boolean
  masked?: boolean
  erased?: boolean
  /** What the record is called that the value points to. */
  label?: string | undefined
}
const props = defineProps<Props>()
const shown = computed(() => {
  if (props.erased) return { text: 'erased', isWords: true }
  if (props.label !== undefined) return { text: props.label, isWords: false }
  return props.masked ? { text: '••••••', isWords: false } : shownValue(props.value, props.baseType)
})
</script>

<template>
  <span class="value mono" :class="[side, { whole }]">
    <span class="mark" aria-hidden="true" /><span class="visually-hidden"
      >{{ side === 'before' ? 'before' : 'after' }}
    </span>
    <bdi
      :class="{ words: shown.isWords, label: label !== undefined }"
      :title="label === undefined ? undefined : (value ?? '')"
      >{{ shown.text }}{{ cut ? '…' : '' }}</bdi
    >
  </span>
</template>

<style scoped>
.mark {
  display: inline-block;
  width: 9px;
  height: 9px;
  border-radius: 50%;
  margin-right: 5px;
}
.before .mark {
  border: 1.6px solid var(--soft);
}
.after .mark {
  background: var(--ink);
}
.before {
  color: var(--soft);
}
.after bdi {
  font-weight: 600;
}
.words {
  font-family: var(--text);
  font-style: italic;
  font-weight: 400 !important;
}
.label {
  font-family: var(--text);
}
.whole {
  display: grid;
  grid-template-columns: 14px 1fr;
  align-items: baseline;
}
.whole .visually-hidden {
  grid-row: 1;
}
.whole bdi {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 240px;
  overflow: auto;
  grid-column: 2;
}
</style>
