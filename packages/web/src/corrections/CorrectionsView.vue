<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { counted } from '@spoor/core'
import { call, problemOf } from '../api/client.ts'
import NothingTracked from '../frame/NothingTracked.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { shortTime } from '../value/time.ts'

const { data, error, isPending } = useQuery({ queryKey: ['corrections'], queryFn: () => call(routes.listCorrections) })
</script>

<template>
  <main>
    <h1>Corrections</h1>
    <NothingTracked belongs="Here stands what was set back, and what is being rehearsed." />
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="isPending" class="quiet">Reading …</p>
    <p v-else-if="data?.corrections.length === 0">
      No corrections yet. Open a save under <RouterLink to="/changes">Changes</RouterLink> and rehearse a revert; it
      appears here as a draft.
    </p>
    <ul v-else>
      <li v-for="one in data?.corrections" :key="one.id">
        <RouterLink :to="`/corrections/${one.id}`">Correction {{ one.id }}</RouterLink>
        <span>{{ one.state === 'applying' ? 'being applied' : one.state }}</span>
        <span>{{ counted(one.itemCount, 'value') }} of {{ counted(one.recordCount, 'record') }}</span>
        <span class="quiet">
          <template v-if="one.state === 'applied'"
            >by {{ one.appliedBy ?? 'a server that was stopped meanwhile' }},
            {{ one.appliedAt && shortTime(one.appliedAt) }}</template
          >
          <template v-else>drafted by {{ one.draftedBy }}, {{ shortTime(one.draftedAt) }}</template>
        </span>
        <span class="quiet reason">{{ one.reason ? `“${one.reason}”` : '' }}</span>
      </li>
    </ul>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped>
h1 {
  margin-bottom: 12px;
}
li {
  display: grid;
  grid-template-columns: 130px 70px 190px 300px 1fr;
  gap: 12px;
  padding: 5px 0;
  border-bottom: 1px solid var(--line-soft);
}
.reason {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
