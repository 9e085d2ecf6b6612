<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes, type Watch } from '@spoor/contract'
import { counted, parseScope, watchSentence } from '@spoor/core'
import { useEventListener } from '@vueuse/core'
import { computed } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { isWriting } from '../frame/writing.ts'
import { scopeQuery } from '../scope/query.ts'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import ReceiverList from './ReceiverList.vue'
import WatchPane from './WatchPane.vue'
import WatchStrip from './WatchStrip.vue'

/** Who is told when of what comes: every watch with its past, and one of them opened. */
const refreshMs = 10_000
const route = useRoute()
const router = useRouter()
const session = useSession()
const { data, error, refetch } = useQuery({
  queryKey: ['watches'],
  queryFn: () => call(routes.listWatches),
  refetchInterval: refreshMs,
})
const watches = computed(() => data.value?.watches ?? [])
const asked = computed(() => (typeof route.query['watch'] === 'string' ? route.query['watch'] : null))
const opened = computed(() => watches.value.find((one) => String(one.id) === asked.value) ?? null)
/** The scope of a watch stands in the address, where its sentence is edited. */
const linkTo = (one: Watch) => ({
  path: '/watches',
  query: { watch: String(one.id), ...scopeQuery(parseScope(new URLSearchParams(one.scope)).scope) },
})
const words = (one: Watch) => watchSentence(one.told, one.speaks, one.fires, one.sentence)
function pastWords(one: Watch): string {
  const times = one.fired === 0 ? 'not fired yet' : `fired ${one.fired === 1 ? 'once' : counted(one.fired, 'time')}`
  return one.lastAt === null ? times : `${times}, last ${shortTime(one.lastAt)}`
}
const close = () => router.push({ path: '/watches' })
useEventListener('keydown', (event) => {
  if (event.key === 'Escape' && asked.value !== null && !isWriting(event.target)) void close()
})
async function kept(one: Watch | null) {
  await refetch()
  await router.push(one === null ? { path: '/watches' } : linkTo(one))
}
</script>

<template>
  <div class="both">
    <main tabindex="0">
      <header>
        <h1>Watches</h1>
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

<style scoped>
.both {
  flex: 1;
  min-height: 0;
  display: flex;
}
main {
  flex: 1;
  min-width: 0;
  overflow: auto;
}
aside {
  width: 420px;
  flex: none;
  background: var(--panel);
  border-left: 1px solid var(--line);
  overflow: auto;
}
header {
  display: flex;
  align-items: baseline;
  gap: 10px;
  padding: 10px 18px;
  border-bottom: 1px solid var(--line-soft);
}
h1 {
  font-size: 14px;
  font-weight: 650;
}
.new {
  margin-left: auto;
}
.pad {
  padding: 14px 18px;
}
.watch {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(160px, 300px);
  gap: 22px;
  padding: 11px 18px;
  border-bottom: 1px solid var(--line-soft);
  color: var(--ink);
  text-decoration: none;
}
.watch:hover,
.watch.on {
  background: var(--panel);
}
.watch.on {
  box-shadow: inset 3px 0 var(--pine);
}
.what,
.past {
  display: grid;
  gap: 1px;
  align-content: start;
  font-size: 13px;
}
.what > bdi {
  font-size: 14px;
  overflow-wrap: anywhere;
}
.legend {
  padding: 10px 18px;
  font-size: 13px;
}
@media (width < 900px) {
  .both {
    flex-direction: column;
  }
  aside {
    width: auto;
  }
}
</style>
