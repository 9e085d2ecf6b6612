<script setup lang="ts">
import { threeState } from '@spoor/core'
import { computed } from 'vue'

/** Shows whether all, some or none of the fields below a level are tracked; pressing it sets them all. */
export interface Props {
  on: number
  of: number
  name: string
  disabled: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ set: [on: boolean] }>()
const state = computed(() => threeState(props.on, props.of))
const checked = computed(
  () => ({ all: 'true', some: 'mixed', none: 'false' })[state.value] as 'true' | 'mixed' | 'false',
)
</script>

<template>
  <button
    class="plain level"
    role="checkbox"
    :aria-checked="checked"
    :aria-label="`Every field of ${name}`"
    :title="`${on} of ${of} fields. Press to ${state === 'all' ? 'switch all off' : 'track all'}.`"
    :disabled="disabled || of === 0"
    @click="emit('set', state !== 'all')"
  >
    <span :style="{ width: of === 0 ? '0' : `${(on / of) * 100}%` }" />
  </button>
</template>

<style scoped>
.level {
  width: 34px;
  height: 10px;
  border: 1.2px solid var(--moss);
  border-radius: 2px;
  overflow: hidden;
  flex: none;
  display: block;
}
.level:disabled {
  cursor: default;
}
span {
  display: block;
  height: 100%;
  background: var(--moss);
}
</style>
