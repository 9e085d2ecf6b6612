<script setup lang="ts">
import type { CorrectionItem } from '@spoor/contract'
import Radio from 'ant-design-vue/es/radio'
import type { Shown } from './groups.ts'

/** Whether values are to be set back, merged or left; for records that are made anew or removed, whether they are. */
export interface Props {
  /** Null where some are, and some are not. */
  choice: Shown | null
  act: CorrectionItem['act']
  mayMerge: boolean
  /** Whether changes are made again elsewhere instead of being set back. */
  again: boolean
  /** What is chosen for, for whoever does not see where it stands. */
  label: string
  disabled: boolean
}
defineProps<Props>()
const emit = defineEmits<{ choose: ['overwrite' | 'merge' | 'leave'] }>()
const back = { set: 'set back', recreate: 'bring back', remove: 'remove' } as const
const anew = { set: 'set', recreate: 'make', remove: 'remove' } as const
const choices = { 'set back': 'overwrite', merge: 'merge', leave: 'leave' } as const
</script>

<template>
  <Radio.Group
    class="choice"
    :value="choice"
    :disabled="disabled"
    :aria-label="label"
    size="small"
    @change="(event: { target: { value?: unknown } }) => emit('choose', choices[event.target.value as Shown])"
  >
    <Radio value="set back">{{ (again ? anew : back)[act] }}</Radio>
    <Radio v-if="mayMerge" value="merge" title="What was done since stays, the rest is set back">merge</Radio>
    <Radio value="leave">leave</Radio>
  </Radio.Group>
</template>

<style scoped>
.choice {
  white-space: nowrap;
}
.choice :deep(.ant-radio-wrapper) {
  font-size: 13px;
  margin-inline-end: 6px;
}
</style>
