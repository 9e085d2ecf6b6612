<script setup lang="ts">
import Popover from 'ant-design-vue/es/popover'
import { computed } from 'vue'

/** A part of a sentence: pressed, it says something else in its place. */
export interface Props {
  text: string
  /** False for what stands where nothing narrows. */
  narrows: boolean
  exclude?: boolean
  /** How many of what it names, for one that is too long to stand there whole. */
  many?: string | undefined
}
const props = defineProps<Props>()
defineOptions({ inheritAttrs: false })
/** A sentence is to be read at a glance: a longer part stands with its beginning, and whole where it is pressed or pointed at. */
const longest = 150
const isLong = computed(() => props.text.length > longest)
const shown = computed(() =>
  isLong.value
    ? `${props.text.slice(0, longest).replace(/[,\s]+\S*$/, '')} … ${props.many ? `(${props.many})` : 'and so on'}`
    : props.text,
)
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
      :title="isLong ? text : undefined"
      @keydown.enter.prevent="open = true"
      @keydown.space.prevent="open = true"
      >{{ shown }}</span
    >
    <template #content>
      <div @keydown.esc="open = false"><slot /></div>
    </template>
  </Popover>
</template>

<style scoped src="./sentence.css"></style>
