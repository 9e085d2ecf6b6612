<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { counted, listed } from '@spoor/core'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime, shortTime } from '../value/time.ts'

/** Named moments of named sets of records. */
const { data, error, isPending } = useQuery({
  queryKey: ['baselines'],
  queryFn: () => call(routes.listBaselines),
  refetchInterval: ({ state }) => (state.data?.baselines.some((one) => one.state === 'going') ? 1000 : false),
})
</script>

<template>
  <main class="page" tabindex="0">
    <h1>Baselines</h1>
    <p class="quiet">
      A named moment of some records, signed off by people. Whatever comes later is compared with it, and can be put
      back to it. One is made from the records of a type, as they stand or stood: see
      <RouterLink to="/records">Records</RouterLink>.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="isPending" class="quiet">Reading …</p>
    <p v-else-if="data?.baselines.length === 0">No moment was named yet.</p>
    <ul v-else>
      <li v-for="one in data?.baselines" :key="one.id">
        <RouterLink :to="{ name: 'baseline', params: { baselineId: String(one.id) } }"
          ><bdi>{{ one.name }}</bdi></RouterLink
        >
        <span>{{ one.state === 'going' ? 'being put down …' : counted(one.records, 'record') }}, {{ one.meant }}</span>
        <span>as they stood {{ shortTime(one.at) }}</span>
        <span class="quiet">{{
          one.signatures.length === 0
            ? 'not signed off'
            : listed(one.signatures.map(({ by, meaning }) => `${meaning} by ${by}`))
        }}</span>
        <span class="quiet" :title="one.why">made by {{ one.madeBy }}, {{ fullTime(one.madeAt) }}</span>
      </li>
    </ul>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped>
main > p {
  max-width: 760px;
}
li {
  display: grid;
  grid-template-columns: minmax(140px, 1fr) minmax(160px, 1.2fr) 190px minmax(140px, 1fr) minmax(200px, 1.3fr);
  gap: 12px;
  padding: 5px 0;
  border-bottom: 1px solid var(--line-soft);
  font-size: 13px;
}
</style>
