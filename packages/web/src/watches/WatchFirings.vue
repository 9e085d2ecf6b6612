<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { useInfiniteQuery } from '@tanstack/vue-query'
import { routes, type Firing } from '@spoor/contract'
import { computed } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime, shortTime } from '../value/time.ts'

/** When a watch fired, and what became of each message. */
export interface Props {
  watchId: number
  /** How often it fired, so that what comes is read. */
  fired: number
  /** Whether what was given up may be sent again. */
  maySend: boolean
}
const refreshMs = 10_000
const props = defineProps<Props>()
const { data, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['firings', computed(() => props.watchId), computed(() => props.fired)],
  queryFn: ({ pageParam }) =>
    call(routes.listFirings, {
      params: { watchId: String(props.watchId) },
      query: pageParam === null ? {} : { before: pageParam },
    }),
  initialPageParam: null as string | null,
  getNextPageParam: (last) => last.next,
  refetchInterval: refreshMs,
})
const firings = computed(() => data.value?.pages.flatMap((page) => page.firings) ?? [])
const { problem, doing } = useDoing()
const again = (messageId: number) =>
  doing(async () => {
    await call(routes.sendAgain, { params: { watchId: String(props.watchId), messageId: String(messageId) } })
    await refetch()
  })
function became({ way, state, sentAt, readAt, tries, trouble, dueAt }: Firing['messages'][number]): string {
  if (state === 'given up') return `given up: ${trouble ?? ''}`
  if (state === 'waiting')
    return tries === 0
      ? `waits until ${shortTime(dueAt)}`
      : `not taken (${trouble ?? ''}), tried ${tries === 1 ? 'once' : `${tries} times`}, again ${shortTime(dueAt)}`
  const taken = way === 'mail' ? `mail taken${tries > 1 ? ` at try ${tries}` : ''} ${shortTime(sentAt!)}` : ''
  const posted = way === 'receiver' ? `taken${tries > 1 ? ` at try ${tries}` : ''} ${shortTime(sentAt!)}` : ''
  const read = way === 'spoor' ? (readAt ? `read ${shortTime(readAt)}` : 'not read yet') : ''
  return `${taken}${posted}${read}`
}
</script>

<template>
  <section aria-label="What it sent">
    <h2>what it sent</h2>
    <ProblemNote v-if="error ?? problem" :problem="problem ?? problemOf(error)" />
    <p v-else-if="data && firings.length === 0" class="quiet">Nothing yet.</p>
    <ul>
      <li v-for="one in firings" :key="one.id">
        <span class="quiet" :title="fullTime(one.at)">{{ shortTime(one.at) }}</span>
        <RouterLink v-if="one.said.length > 0" :to="one.said[0]!.path"
          ><bdi>{{ one.words }}</bdi></RouterLink
        >
        <RouterLink v-else-if="one.saveId" :to="{ path: '/changes', query: { save: one.saveId } }"
          ><bdi>{{ one.words }}</bdi></RouterLink
        >
        <bdi v-else>{{ one.words }}</bdi>
        <span v-if="one.messages.length === 0" class="quiet to">muted: nobody was told</span>
        <span
          v-for="(message, index) in one.messages"
          :key="index"
          class="to"
          :class="message.state === 'given up' ? 'failure' : 'quiet'"
          ><bdi>{{ message.to }}</bdi
          >: {{ became(message) }}
          <button
            v-if="message.state === 'given up' && maySend"
            type="button"
            class="plain again"
            @click="again(message.id)"
          >
            Send it again
          </button></span
        >
      </li>
    </ul>
    <Button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">Show more</Button>
  </section>
</template>

<style scoped>
h2 {
  font-size: 13px;
  font-weight: 650;
  color: var(--soft);
}
li {
  display: grid;
  grid-template-columns: 100px minmax(0, 1fr);
  gap: 0 10px;
  padding: 3px 0;
  overflow-wrap: anywhere;
}
.again {
  color: var(--pine);
}
.to {
  grid-column: 2;
  font-size: 12.5px;
}
</style>
