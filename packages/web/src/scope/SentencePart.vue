<script setup lang="ts">
import Popover from 'ant-design-vue/es/popover'

/** A part of a sentence: pressed, it says something else in its place. */
export interface Props {
  text: string
  /** False for what stands where nothing narrows. */
  narrows: boolean
  exclude?: boolean
}
defineProps<Props>()
defineOptions({ inheritAttrs: false })
const open = defineModel<boolean>('open', { required: true })
</script>

<template>
  <Popover v-model:open="open" trigger="click" placement="bottomLeft" :arrow="false" destroy-tooltip-on-hide>
    <!-- A button of its own kind, since those of the browser do not break between two lines as words do. -->
    <span
      v-bind="$attrs"
      class="part"
      role="button"
      tabindex="0"
      :class="{ narrows, exclude }"
      :aria-expanded="open"
      @keydown.enter.prevent="open = true"
      @keydown.space.prevent="open = true"
      >{{ text }}</span
    >
    <template #content>
      <div @keydown.esc="open = false"><slot /></div>
    </template>
  </Popover>
</template>

<style scoped src="./sentence.css"></style>
