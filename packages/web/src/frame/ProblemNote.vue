<script setup lang="ts">
import type { ProblemBody } from '@spoor/contract'

export interface Props {
  problem: ProblemBody
}
defineProps<Props>()
</script>

<template>
  <div class="note" role="alert">
    <b>{{ problem.title }}.</b> {{ problem.detail }}
    <ul v-if="problem.pieces?.length">
      <li v-for="piece in problem.pieces" :key="piece.name + piece.text">
        <span class="mono">{{ piece.name }}={{ piece.text }}</span> {{ piece.words }}
      </li>
    </ul>
    <pre v-if="problem.remedy" class="mono">{{ problem.remedy }}</pre>
    <slot />
  </div>
</template>

<style scoped>
.note {
  border-left: 3px solid var(--fail);
  background: var(--panel);
  padding: 8px 12px;
  overflow-wrap: anywhere;
}
b {
  color: var(--fail);
}
pre {
  margin: 6px 0 0;
  white-space: pre-wrap;
  user-select: all;
}
</style>
