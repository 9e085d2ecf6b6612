<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes, type GuardLine } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import GuardPane from './GuardPane.vue'
import { useOpened } from './opened.ts'
import WatchesTabs from './WatchesTabs.vue'
import WatchStrip from './WatchStrip.vue'

/** What the sources refuse before it happens: every guard with its past, and one of them opened. */
const refreshMs = 5_000
const router = useRouter()
const session = useSession()
const { data, error, refetch } = useQuery({
  queryKey: ['guards'],
  queryFn: () => call(routes.listGuards),
  refetchInterval: refreshMs,
})
const guards = computed(() => data.value?.guards ?? [])
const { asked, close } = useOpened('/watches/guards', 'guard')
const opened = computed(() => guards.value.find((one) => String(one.id) === asked.value) ?? null)
const staged = computed(() => guards.value.some((one) => one.standing !== 'in force'))
const linkTo = (one: GuardLine) => ({ path: '/watches/guards', query: { guard: String(one.id) } })
function pastWords(one: GuardLine): string {
  const words = [
    ...(one.refused > 0 ? [`refused ${counted(one.refused, 'save')}${one.uncertain ? ' at most' : ''}`] : []),
    ...(one.warned > 0 ? [`warned of ${one.warned}`] : []),
    ...(one.passed > 0 ? [`${one.passed} passed while it was open`] : []),
  ]
  if (words.length === 0) return 'nothing met yet'
  return `${words.join(', ')}${one.lastAt ? `, last ${shortTime(one.lastAt)}` : ''}`
}
const openNow = (one: GuardLine) =>
  one.openings.filter((opening) => opening.closedAt === null && Date.parse(opening.until) > Date.now())
async function kept(guardId: number | null) {
  await refetch()
  await router.push({ path: '/watches/guards', query: guardId === null ? {} : { guard: String(guardId) } })
}
</script>

<template>
  <div class="watches-both">
    <main tabindex="0">
      <header>
        <WatchesTabs here="guards" />
        <span class="quiet">refuse it in the source, before it happens</span>
        <RouterLink
          v-if="session.may('tracking.edit')"
          class="new"
          :to="{ path: '/watches/guards', query: { guard: 'new' } }"
          >New guard</RouterLink
        >
      </header>
      <ProblemNote v-if="error" :problem="problemOf(error)" />
      <p v-else-if="!data" class="quiet pad">Reading …</p>
      <p v-else-if="guards.length === 0" class="pad">
        Nothing is refused yet. A guard says what may not be saved, in words that whoever is refused reads. It is tried
        on the past year first, and can begin by only warning.
      </p>
      <p v-if="staged" class="pad attention" role="status">
        What is staged holds once the draft is in force: <RouterLink to="/tracking">look at the draft</RouterLink>.
      </p>
      <RouterLink
        v-for="one in guards"
        :key="one.id"
        class="watch"
        :class="{ on: opened?.id === one.id }"
        :aria-current="opened?.id === one.id"
        :to="linkTo(one)"
      >
        <span class="what">
          <bdi>{{ one.sentence }}</bdi>
          <span class="quiet"
            >guard {{ one.id }} “<bdi>{{ one.guard.name }}</bdi
            >” in {{ one.source }}<template v-if="one.standing !== 'in force'">, {{ one.standing }}</template></span
          >
          <span v-if="one.trouble" class="failure"
            ><bdi>{{ one.trouble }}</bdi></span
          >
          <span v-for="opening in openNow(one)" :key="opening.id" class="attention"
            >open for <bdi>{{ opening.actor }}</bdi> until {{ shortTime(opening.until) }}</span
          >
        </span>
        <span class="past">
          <WatchStrip :fired="one.strip" :words="pastWords(one)" />
          <span class="quiet" :title="one.lastAt ? fullTime(one.lastAt) : ''">{{ pastWords(one) }}</span>
        </span>
      </RouterLink>
      <p v-if="guards.length > 0" class="legend quiet">● refused, warned of or let by · a year in all</p>
    </main>
    <aside v-if="asked === 'new' || opened" aria-label="The guard">
      <GuardPane :key="asked ?? ''" :line="opened" @kept="kept" @close="close" />
    </aside>
  </div>
</template>

<style scoped src="./watches.css"></style>
