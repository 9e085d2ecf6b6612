<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { isDecimal, type ValuePart, type ValueTest } from '@spoor/core'
import { computed, ref } from 'vue'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: ValuePart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: ValuePart] }>()
const part = computed<ValuePart>(() => props.part ?? { part: 'value', exclude: false, tests: [] })
const kinds = [
  { id: 'contains', text: 'a value contains' },
  { id: 'from', text: 'it was' },
  { id: 'to', text: 'it became' },
  { id: 'from-nothing', text: 'it was nothing' },
  { id: 'to-nothing', text: 'it became nothing' },
  { id: 'rose', text: 'it rose by more than' },
  { id: 'rose%', text: 'it rose by more than, %' },
  { id: 'fell', text: 'it fell by more than' },
  { id: 'fell%', text: 'it fell by more than, %' },
] as const
const kind = ref<(typeof kinds)[number]['id']>('contains')
const text = ref('')
const needsText = computed(() => !kind.value.endsWith('nothing'))
const test = computed<ValueTest | null>(() => {
  const [said, percent] = [text.value.trim(), kind.value.endsWith('%')]
  switch (kind.value) {
    case 'contains':
      return said === '' ? null : { test: 'contains', text: text.value }
    case 'from':
    case 'to':
      return { test: kind.value, value: text.value }
    case 'from-nothing':
      return { test: 'from', value: null }
    case 'to-nothing':
      return { test: 'to', value: null }
    default:
      return isDecimal(said) && !said.startsWith('-')
        ? { test: kind.value.startsWith('rose') ? 'rose' : 'fell', by: said, percent }
        : null
  }
})
function words(one: ValueTest): string {
  if (one.test === 'contains') return `a value contains “${one.text}”`
  if (one.test === 'from' || one.test === 'to')
    return `it ${one.test === 'from' ? 'was' : 'became'} ${one.value === null ? 'nothing' : `“${one.value}”`}`
  return `it ${one.test} by more than ${one.by}${one.percent ? ' %' : ''}`
}
function add() {
  if (!test.value) return
  emit('put', { ...part.value, tests: [...part.value.tests, test.value] })
  text.value = ''
}
</script>

<template>
  <ul v-if="part.tests.length > 0">
    <li v-for="(one, at) in part.tests" :key="at" class="said">
      {{ words(one) }}
      <button class="plain act" @click="emit('put', { ...part, tests: part.tests.filter((_, other) => other !== at) })">
        Take away
      </button>
    </li>
  </ul>
  <form class="new" @submit.prevent="add">
    <select v-model="kind" aria-label="Condition on the value">
      <option v-for="one in kinds" :key="one.id" :value="one.id">{{ one.text }}</option>
    </select>
    <Input v-if="needsText" v-model:value="text" size="small" aria-label="Value" autofocus />
    <Button size="small" html-type="submit" :disabled="!test">Add</Button>
  </form>
  <p class="quiet">Values as the database writes them: 120.50, 2026-03-20. Masked fields are left out.</p>
</template>

<style scoped src="./condition.css"></style>
<style scoped>
.new {
  --condition: auto 1fr auto;
}
.act {
  color: var(--pine);
}
</style>
