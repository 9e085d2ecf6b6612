<script setup lang="ts">
import Radio from 'ant-design-vue/es/radio'

/** Whether values are to be set back or left. */
export interface Props {
  /** Null where some are, and some are not. */
  choice: 'set back' | 'leave' | null
  /** What is chosen for, for whoever does not see where it stands. */
  label: string
  disabled: boolean
}
defineProps<Props>()
const emit = defineEmits<{ choose: ['overwrite' | 'leave'] }>()
</script>

<template>
  <Radio.Group
    class="choice"
    :value="choice"
    :disabled="disabled"
    :aria-label="label"
    size="small"
    @change="
      (event: { target: { value?: unknown } }) => emit('choose', event.target.value === 'leave' ? 'leave' : 'overwrite')
    "
  >
    <Radio value="set back">set back</Radio>
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
