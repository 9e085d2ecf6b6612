<script setup lang="ts">
import { kindPlural, type ActorKind } from '@spoor/core'

export interface Props {
  kind: ActorKind
}
defineProps<Props>()
</script>

<template>
  <svg
    viewBox="0 0 14 14"
    width="14"
    height="14"
    fill="none"
    stroke="currentColor"
    stroke-width="1.5"
    :class="kind"
    role="img"
  >
    <title>{{ kindPlural[kind] }}</title>
    <template v-if="kind === 'person'">
      <circle cx="7" cy="4.2" r="2.7" fill="currentColor" stroke="none" />
      <path d="M1.8 13c0-3.2 2.2-5 5.2-5s5.2 1.8 5.2 5z" fill="currentColor" stroke="none" />
    </template>
    <path v-else-if="kind === 'import'" d="M1.5 3h11M1.5 7h11M1.5 11h11" />
    <template v-else-if="kind === 'job'">
      <circle cx="7" cy="7" r="5.4" />
      <path d="M7 3.6V7l2.4 1.6" />
    </template>
    <path v-else-if="kind === 'integration'" d="M1.5 4.5h9L8 2M12.5 9.5h-9L6 12" />
    <template v-else-if="kind === 'delegate'">
      <circle cx="5" cy="4.6" r="2.2" fill="currentColor" stroke="none" />
      <path d="M.8 12.4c0-2.6 1.8-4.2 4.2-4.2s4.2 1.6 4.2 4.2z" fill="currentColor" stroke="none" />
      <circle cx="10.4" cy="5.4" r="1.9" stroke-width="1.3" />
    </template>
    <template v-else>
      <circle cx="7" cy="7" r="5.6" stroke-dasharray="2 1.6" stroke-width="1.4" />
      <path d="M5.4 5.6c0-2 3.2-2 3.2 0 0 1.2-1.6 1.2-1.6 2.4M7 9.6v.9" stroke-width="1.2" />
    </template>
  </svg>
</template>

<style scoped>
svg {
  flex: none;
  vertical-align: -2px;
}
.unknown {
  color: var(--plum);
}
</style>
