<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { usePulse } from '../frame/pulse.ts'
import AlarmItem from './AlarmItem.vue'

/** Everything wrong that somebody must deal with; nothing at all where nothing is. */
const pulse = usePulse()
const { data, error, refetch } = useQuery({
  queryKey: ['alarms'],
  queryFn: () => call(routes.listAlarms, { query: {} }),
})
watch(
  () => pulse.pulse?.alarms,
  () => void refetch(),
)
const standing = computed(() => data.value?.alarms.filter((alarm) => alarm.overAt === null) ?? [])
const past = computed(() => data.value?.alarms.filter((alarm) => alarm.overAt !== null) ?? [])
const all = ref(false)
const most = 5
const shown = computed(() => {
  const alarms = [...standing.value, ...past.value]
  return all.value ? alarms : alarms.slice(0, most)
})
</script>

<template>
  <ProblemNote v-if="error" :problem="problemOf(error)"
    ><button class="plain link" @click="refetch()">Try again</button></ProblemNote
  >
  <section v-if="data && data.count > 0" id="alarms" role="alert" aria-label="What is wrong">
    <h2>
      {{ counted(data.count, 'thing') }} {{ data.count === 1 ? 'is' : 'are' }} wrong, or
      {{ data.count === 1 ? 'was' : 'were' }}, and nobody has settled {{ data.count === 1 ? 'it' : 'them' }}
    </h2>
    <AlarmItem v-for="alarm in shown" :key="alarm.id" :alarm="alarm" @settled="refetch()" />
    <button v-if="data.alarms.length > shown.length" class="plain link" @click="all = true">
      Show the other {{ data.alarms.length - shown.length }}
    </button>
    <p v-if="all && data.count > data.alarms.length" class="quiet">
      The latest {{ data.alarms.length }} are shown; earlier ones appear as these are settled.
    </p>
  </section>
</template>

<style scoped>
section {
  margin: 14px 0 20px;
}
h2 {
  font-size: 15px;
  margin: 0 0 6px;
}
</style>
