<script setup lang="ts" generic="T extends string | number | boolean | null">
import { computed, ref } from 'vue'
import SentencePart from './SentencePart.vue'

/** A part of a sentence that says one of a few things. */
const props = withDefaults(
  defineProps<{
    value: T
    choices: readonly { value: T; text: string }[]
    /** Where nothing of the kind is chosen yet. */
    placeholder?: string
    /** False where what is chosen narrows nothing. */
    narrows?: boolean
  }>(),
  { placeholder: 'choose …', narrows: true },
)
const emit = defineEmits<{ choose: [value: T] }>()
const open = ref(false)
const chosen = computed(() => props.choices.find(({ value }) => value === props.value))
function choose(value: T) {
  open.value = false
  emit('choose', value)
}
</script>

<template>
  <SentencePart v-model:open="open" :text="chosen?.text ?? placeholder" :narrows="narrows && chosen !== undefined">
    <ul class="choices">
      <li v-for="one in choices" :key="String(one.value)">
        <button class="plain act" :aria-current="one.value === value" @click="choose(one.value)">{{ one.text }}</button>
      </li>
    </ul>
  </SentencePart>
</template>

<style scoped src="./sentence.css"></style>
<style scoped>
.choices {
  max-height: 320px;
  overflow: auto;
}
.choices [aria-current='true'] {
  font-weight: 650;
}
</style>
