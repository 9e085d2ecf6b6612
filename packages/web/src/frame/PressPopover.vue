<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Popover from 'ant-design-vue/es/popover'
import { useEventListener } from '@vueuse/core'
import { ref } from 'vue'

/** A button with something that opens under it; Escape closes that alone. */
export interface Props {
  title: string
  openAtFirst?: boolean
}
const { openAtFirst = false } = defineProps<Props>()
const open = ref(openAtFirst)
useEventListener(
  'keydown',
  (event) => {
    if (event.key !== 'Escape' || !open.value) return
    event.stopImmediatePropagation()
    open.value = false
  },
  { capture: true },
)
</script>

<template>
  <Popover v-model:open="open" trigger="click" placement="bottomRight" :arrow="false">
    <Button size="small" :aria-expanded="open">{{ title }}</Button>
    <template #content><slot /></template>
  </Popover>
</template>
