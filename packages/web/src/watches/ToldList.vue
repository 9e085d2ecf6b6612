<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type Told } from '@spoor/contract'
import { counted } from '@spoor/core'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime, shortTime } from '../value/time.ts'

/** What watches told the person who reads, until they have read it. */
const refreshMs = 15_000
const cache = useQueryClient()
const { data, error } = useQuery({
  queryKey: ['told'],
  queryFn: () => call(routes.listTold),
  refetchInterval: refreshMs,
})
const { problem, doing } = useDoing()
const read = (told: readonly Told[]) =>
  doing(async () => {
    await call(routes.readTold, { body: { messageIds: told.map((one) => one.id) } })
    await cache.invalidateQueries({ queryKey: ['told'] })
  })
const linkOf = (one: Told) =>
  one.said[0]?.path ??
  (one.saveId === null
    ? { path: '/watches', query: { watch: String(one.watchId) } }
    : { path: '/changes', query: { save: one.saveId } })
</script>

<template>
  <ProblemNote v-if="error ?? problem" :problem="problem ?? problemOf(error)" />
  <section v-if="data && data.count > 0" class="told" aria-label="What watches tell you">
    <h2>
      {{ counted(data.count, 'message') }} of your watches
      <button v-if="data.told.length > 1" class="plain act" @click="read(data.told)">I have read them</button>
    </h2>
    <ul>
      <li v-for="one in data.told" :key="one.id">
        <span>
          <RouterLink :to="linkOf(one)" @click="read([one])"
            ><bdi>{{ one.words }}</bdi></RouterLink
          >
          <RouterLink
            class="quiet"
            :to="{ path: '/watches', query: { watch: String(one.watchId) } }"
            :title="one.sentence"
            >watch {{ one.watchId }}</RouterLink
          >
        </span>
        <span class="quiet" :title="fullTime(one.at)"
          >{{ shortTime(one.at) }} · <button class="plain act" @click="read([one])">Read</button></span
        >
      </li>
    </ul>
  </section>
</template>

<style scoped>
.told {
  margin: 12px 0;
}
h2 {
  font-size: 15px;
  font-weight: 650;
}
li {
  display: flex;
  justify-content: space-between;
  gap: 4px 16px;
  padding: 5px 0;
  border-top: 1px solid var(--line-soft);
}
li > span:first-child {
  display: flex;
  flex-wrap: wrap;
  gap: 0 10px;
}
li > span:last-child {
  white-space: nowrap;
}
.act {
  color: var(--pine);
  font-size: 13px;
  font-weight: 400;
}
</style>
