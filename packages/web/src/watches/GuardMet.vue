<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes, type GuardLine } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime, shortTime } from '../value/time.ts'

/** What a guard refused, warned of and let by; and how much of what it refused nobody told of. */
export interface Props {
  line: GuardLine
}
const props = defineProps<Props>()
const { data, error } = useQuery({
  queryKey: [
    'guard-met',
    computed(() => props.line.id),
    computed(() => `${props.line.told} ${props.line.warned} ${props.line.passed}`),
  ],
  queryFn: () => call(routes.readMet, { params: { guardId: String(props.line.id) } }),
})
const met = computed(() => data.value?.met ?? [])
const untold = computed(() => Math.max(0, props.line.refused - props.line.told))
const howWords = { refused: 'refused', warned: 'warned of', passed: 'passed, it was open' } as const
</script>

<template>
  <section aria-label="What it met">
    <h2>what it met</h2>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="data && met.length === 0 && line.refused === 0" class="quiet">Nothing yet.</p>
    <p v-if="untold > 0" class="quiet">
      {{ counted(untold, 'save') }} it refused nobody told of: the source counts each, and who it was is known only
      where the application tells.<template v-if="line.uncertain">
        The count may be too high: the source was stopped in between.</template
      >
    </p>
    <ul>
      <li v-for="one in met" :key="one.id">
        <RouterLink
          v-if="one.saveId"
          :to="{ path: '/changes', query: { save: one.saveId } }"
          :title="fullTime(one.at)"
          >{{ shortTime(one.at) }}</RouterLink><span v-else class="quiet" :title="fullTime(one.at)">{{
          shortTime(one.at)
        }}</span>
        {{ howWords[one.how] }}: <bdi>{{ one.label }}</bdi>, by <bdi>{{ one.actor }}</bdi>
      </li>
    </ul>
  </section>
</template>

<style scoped>
h2 {
  font-size: 13px;
  font-weight: 650;
  color: var(--soft);
}
ul {
  max-height: 220px;
  overflow: auto;
}
</style>
