<script setup lang="ts">
import { useSession } from '../session/session.ts'

/** The two ways of not learning of it too late. */
export interface Props {
  here: 'watches' | 'guards'
}
defineProps<Props>()
const session = useSession()
</script>

<template>
  <h1>
    <RouterLink to="/watches" :class="{ here: here === 'watches' }">Watches</RouterLink>
    <RouterLink v-if="session.may('tracking.read')" to="/watches/guards" :class="{ here: here === 'guards' }"
      >Guards</RouterLink
    >
  </h1>
</template>

<style scoped>
h1 {
  font-size: 14px;
  font-weight: 650;
  display: flex;
  gap: 14px;
}
a {
  color: var(--soft);
  text-decoration: none;
}
a.here {
  color: var(--ink);
  box-shadow: 0 2px var(--pine);
}
</style>
