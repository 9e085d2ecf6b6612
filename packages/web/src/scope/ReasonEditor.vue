<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import type { ReasonPart } from '@spoor/core'
import { ref } from 'vue'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: ReasonPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: ReasonPart] }>()
const text = ref(props.part?.contains ?? '')
</script>

<template>
  <div class="choices">
    <Button size="small" @click="emit('put', { part: 'reason', exclude: false, contains: null })"
      >A reason was given</Button
    >
    <Button size="small" @click="emit('put', { part: 'reason', exclude: true, contains: null })">None was given</Button>
  </div>
  <form
    class="choices"
    @submit.prevent="text.trim() && emit('put', { part: 'reason', exclude: false, contains: text.trim() })"
  >
    <Input v-model:value="text" size="small" placeholder="or: the reason contains …" aria-label="The reason contains" />
    <Button size="small" html-type="submit" :disabled="!text.trim()">Set</Button>
  </form>
</template>

<style scoped>
.choices {
  display: flex;
  gap: 6px;
  margin-bottom: 8px;
}
</style>
