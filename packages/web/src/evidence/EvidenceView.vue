<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { useInfiniteQuery } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import RegularList from './RegularList.vue'
import { sizeWords } from './words.ts'

/** The register of evidence that was taken out. */
const session = useSession()
const { data, error, isPending, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['packs'],
  queryFn: ({ pageParam }) =>
    call(routes.listPacks, { query: pageParam === null ? {} : { before: String(pageParam) } }),
  initialPageParam: null as number | null,
  getNextPageParam: (last) => last.next,
  refetchInterval: ({ state }) =>
    state.data?.pages.some(({ packs }) => packs.some((one) => one.state === 'going')) ? 1000 : false,
})
const packs = computed(() => data.value?.pages.flatMap((page) => page.packs) ?? [])
</script>

<template>
  <main class="page" tabindex="0">
    <header>
      <h1>Evidence</h1>
      <RouterLink v-if="session.may('packs.make')" class="act" to="/evidence/making">Make a pack</RouterLink>
      <RouterLink class="act" to="/check">Check a pack</RouterLink>
      <RouterLink v-if="session.may('cases.read')" class="act" to="/evidence/cases">Cases</RouterLink>
    </header>
    <p class="quiet">
      A pack is a file that is handed over: the changes in a scope to be read, and what proves them to somebody who has
      neither Spoor nor reason to trust it. From any list in <RouterLink to="/changes">Changes</RouterLink> one is begun
      with what is on the screen.
    </p>
    <RegularList />
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="isPending" class="quiet">Reading …</p>
    <p v-else-if="packs.length === 0">No pack was made yet.</p>
    <table v-else>
      <thead>
        <tr>
          <th scope="col">Pack</th>
          <th scope="col">For</th>
          <th scope="col">What</th>
          <th scope="col">Holds</th>
          <th scope="col">Made by</th>
          <th scope="col">Taken</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in packs" :key="one.id">
          <td>
            <RouterLink :to="{ name: 'pack', params: { packId: String(one.id) } }">{{ one.id }}</RouterLink>
          </td>
          <th scope="row">
            <RouterLink :to="{ name: 'pack', params: { packId: String(one.id) } }"
              ><bdi>{{ one.title }}</bdi></RouterLink
            >
          </th>
          <td class="what" :title="one.cover?.sentence">
            <bdi>{{ one.cover?.sentence ?? '' }}</bdi>
          </td>
          <td>
            <template v-if="one.state === 'going'">being made …</template>
            <template v-else-if="one.state === 'withdrawn'">withdrawn</template>
            <template v-else-if="one.state === 'failed'">not made</template>
            <template v-else
              >{{ counted(one.cover!.holds.changes, 'change') }}, {{ sizeWords(one.size ?? 0) }}</template
            >
          </td>
          <td :title="fullTime(one.askedAt)">{{ one.madeBy }}, {{ shortTime(one.askedAt) }}</td>
          <td class="quiet">
            {{
              one.takenCount === 0
                ? 'by nobody'
                : `${one.takenCount === 1 ? 'once' : `${one.takenCount} times`}, last by ${one.taken[0]!.by} ${shortTime(one.taken[0]!.at)}`
            }}
          </td>
        </tr>
      </tbody>
    </table>
    <Button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">Show more</Button>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped src="../frame/register.css"></style>
<style scoped>
.what {
  max-width: 380px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
