<script setup lang="ts">
import { useEventListener } from '@vueuse/core'
import type { Scope } from '@spoor/core'
import { defineAsyncComponent, ref } from 'vue'
import type { NamedVocabulary } from './vocabulary.ts'

/** Where a scope is typed as plain words. What reads them is fetched when somebody begins. */
export interface Props {
  names: NamedVocabulary
}
defineProps<Props>()
const emit = defineEmits<{ change: [scope: Scope] }>()
const AskForm = defineAsyncComponent(() => import('./AskForm.vue'))
const open = ref(false)
const text = ref('')
useEventListener('keydown', (event) => {
  if (event.key !== '/' || event.ctrlKey || event.metaKey || event.altKey) return
  if ((event.target as HTMLElement).closest('input, textarea, select, [contenteditable]')) return
  event.preventDefault()
  open.value = true
})
</script>

<template>
  <div class="ask" :class="{ open }">
    <button v-if="!open" class="plain hint" title="Key: /" @click="open = true">Ask in plain words <kbd>/</kbd></button>
    <AskForm
      v-else
      v-model:text="text"
      :names="names"
      @change="(scope) => emit('change', scope)"
      @close="open = false"
    />
  </div>
</template>

<style scoped>
.hint {
  color: var(--soft);
  font-size: 13px;
  border: 1px solid var(--faint);
  border-radius: 3px;
  padding: 1px 9px;
}
kbd {
  font-family: var(--mono);
}
</style>
