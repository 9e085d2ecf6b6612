<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { counted, parseScope, scopeEntries, type Scope } from '@spoor/core'
import { computed } from 'vue'
import { useSummary } from '../changes/saves-list.ts'
import ScopeSentence from '../scope/ScopeSentence.vue'
import { useVocabulary } from '../scope/vocabulary.ts'

/** Changes whose values are left out of a pack, said as a sentence, with why. */
export interface Props {
  /** How many of the pack's changes it leaves out; null while that is not known. */
  closes: number | null
}
defineProps<Props>()
const scope = defineModel<string>('scope', { required: true })
const why = defineModel<string>('why', { required: true })
const emit = defineEmits<{ leave: [] }>()
const parsed = computed(() => parseScope(new URLSearchParams(scope.value)).scope)
const { summary } = useSummary(scope, () => true)
const names = useVocabulary(
  computed(() => summary.value?.recordLabels ?? {}),
  computed(() => summary.value?.runLabels ?? {}),
  computed(() => summary.value?.storyLabels ?? {}),
  computed(() => summary.value?.caseLabels ?? {}),
)
const set = (next: Scope) => {
  scope.value = new URLSearchParams(scopeEntries(next)).toString()
}
</script>

<template>
  <li class="blacked">
    <ScopeSentence :scope="parsed" :names="names" @change="set" />
    <div class="row">
      <Input
        v-model:value="why"
        size="small"
        :maxlength="200"
        aria-label="Why these changes are blacked out"
        placeholder="Why, for who reads it"
      />
      <Button size="small" @click="emit('leave')">Leave readable</Button>
    </div>
    <p v-if="scope === ''" class="quiet">Say which changes: a record, a person, a field, a save.</p>
    <p v-else-if="closes !== null" class="quiet" aria-live="polite">
      {{ counted(closes, 'change') }} in the pack, with whatever tells the same values of these records.
    </p>
  </li>
</template>

<style scoped>
.blacked {
  display: grid;
  gap: 6px;
  padding: 6px 0;
}
.row {
  display: flex;
  gap: 8px;
}
</style>
