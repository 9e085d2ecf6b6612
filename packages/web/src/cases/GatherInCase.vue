<script setup lang="ts">
import type { CaseThing } from '@spoor/contract'
import { defineAsyncComponent, ref } from 'vue'
import PressPopover from '../frame/PressPopover.vue'

const GatherForm = defineAsyncComponent(() => import('./GatherForm.vue'))

/** A press that gathers one thing in a case; what became of it stays under it. */
export interface Props {
  thing: CaseThing
}
defineProps<Props>()
const said = ref<{ words: string; caseId: number } | null>(null)
</script>

<template>
  <PressPopover title="Gather in a case …">
    <GatherForm :things="() => [thing]" @done="(words, caseId) => (said = { words, caseId })" />
    <p v-if="said" role="status" class="said">
      {{ said.words }} <RouterLink :to="{ name: 'case', params: { caseId: String(said.caseId) } }">Go there</RouterLink>
    </p>
  </PressPopover>
</template>

<style scoped>
.said {
  margin-top: 8px;
  font-size: 13px;
}
</style>
