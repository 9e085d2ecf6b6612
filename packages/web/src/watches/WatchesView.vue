<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes, type Watch } from '@spoor/contract'
import { counted, parseScope, watchSentence } from '@spoor/core'
import { computed } from 'vue'
import { useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { scopeQuery } from '../scope/query.ts'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import HolidayList from './HolidayList.vue'
import ReceiverList from './ReceiverList.vue'
import { useOpened } from './opened.ts'
import WatchesTabs from './WatchesTabs.vue'
import WatchPane from './WatchPane.vue'
import WatchStrip from './WatchStrip.vue'

/** Who is told when of what comes: every watch with its past, and one of them opened. */
const refreshMs = 10_000
const router = useRouter()
const session = useSession()
const { data, error, refetch } = useQuery({
  queryKey: ['watches'],
  queryFn: () => call(routes.listWatches),
  refetchInterval: refreshMs,
})
const watches = computed(() => data.value?.watches ?? [])
const { asked, close } = useOpened('/watches', 'watch')
const opened = computed(() => watches.value.find((one) => String(one.id) === asked.value) ?? null)
/** The scope of a watch stands in the address, where its sentence is edited. */
const linkTo = (one: Watch) => ({
  path: '/watches',
  query: { watch: String(one.id), ...scopeQuery(parseScope(new URLSearchParams(one.scope)).scope) },
})
const words = (one: Watch) => watchSentence(one, { told: one.told, scope: one.sentence, field: one.field })
function pastWords(one: Watch): string {
  const times = one.fired === 0 ? 'not fired yet' : `fired ${one.fired === 1 ? 'once' : counted(one.fired, 'time')}`
  return one.lastAt === null ? times : `${times}, last ${shortTime(one.lastAt)}`
}
async function kept(one: Watch | null) {
  await refetch()
  await router.push(one === null ? { path: '/watches' } : linkTo(one))
}
</script>

<template>
  <div class="watches-both">
    <main tabindex="0">
      <header>
        <WatchesTabs here="watches" />
        <span class="quiet">tell somebody after the fact</span>
        <RouterLink v-if="session.may('watches.edit')" class="new" :to="{ path: '/watches', query: { watch: 'new' } }"
          >New watch</RouterLink
        >
      </header>
      <ProblemNote v-if="error" :problem="problemOf(error)" />
      <p v-else-if="!data" class="quiet pad">Reading …</p>
      <p v-else-if="watches.length === 0" class="pad">
        Nobody is told of anything yet. Make a watch here, or press <i>Watch this</i> in
        <RouterLink to="/changes">Changes</RouterLink> over what you would have liked to be told of.
      </p>
      <RouterLink
        v-for="one in watches"
        :key="one.id"
        class="watch"
        :class="{ on: opened?.id === one.id }"
        :aria-current="opened?.id === one.id"
        :to="linkTo(one)"
      >
        <span class="what">
          <bdi>{{ words(one) }}</bdi>
          <span class="quiet">
            watch {{ one.id }} of {{ one.owner.name
            }}<template v-if="one.state !== 'on'"
              >, {{ one.state }}: <bdi>{{ one.stateWhy }}</bdi></template
            ></span
          >
          <span v-if="one.trouble" class="failure"
            ><bdi>{{ one.trouble }}</bdi></span
          >
          <span v-if="one.givenUp > 0" class="attention"
            >{{ counted(one.givenUp, 'message') }} could not be delivered</span
          >
          <span v-else-if="one.waiting > 0" class="quiet">{{ counted(one.waiting, 'message') }} waiting</span>
        </span>
        <span class="past">
          <WatchStrip :fired="one.strip" :words="pastWords(one)" />
          <span class="quiet" :title="one.lastAt ? fullTime(one.lastAt) : ''">{{ pastWords(one) }}</span>
        </span>
      </RouterLink>
      <HolidayList v-if="data && session.may('holidays.edit')" />
      <ReceiverList v-if="data && session.may('receivers.edit')" :receivers="data.receivers" @changed="refetch()" />
      <p v-if="watches.length > 0" class="legend quiet">
        ● fired &nbsp; ○ would have fired, had it been there · a year in all
      </p>
    </main>
    <aside v-if="asked === 'new' || opened" aria-label="The watch">
      <WatchPane
        :key="asked ?? ''"
        :watch="opened"
        :may-mail="data?.mayMail === true"
        :receivers="data?.receivers ?? []"
        @kept="kept"
        @close="close"
      />
    </aside>
  </div>
</template>

<style scoped src="./watches.css"></style>
