<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useInfiniteQuery, useQueryClient } from '@tanstack/vue-query'
import { routes } from '@spoor/contract'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import { gatheredWords } from './words.ts'

/** Questions under which things are gathered: the open ones, or those that were closed with a finding. */
const session = useSession()
const router = useRouter()
const cache = useQueryClient()
const state = ref<'open' | 'closed'>('open')
const { data, error, isPending, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['cases', state],
  queryFn: ({ pageParam }) =>
    call(routes.listCases, {
      query: { state: state.value, ...(pageParam === null ? {} : { before: String(pageParam) }) },
    }),
  initialPageParam: null as number | null,
  getNextPageParam: (last) => last.next,
})
const cases = computed(() => data.value?.pages.flatMap((page) => page.cases) ?? [])
const question = ref('')
const shortest = 5
const { busy, problem, doing } = useDoing()
const open = () =>
  doing(async () => {
    const body = { question: question.value, ownerId: session.person!.id, things: [] }
    const { id } = await call(routes.openCase, { body })
    void cache.invalidateQueries({ queryKey: ['cases'] })
    await router.push({ name: 'case', params: { caseId: String(id) } })
  })
const link = (id: number) => ({ name: 'case', params: { caseId: String(id) } })
</script>

<template>
  <main class="page" tabindex="0">
    <header>
      <h1>Cases</h1>
      <button class="plain view" :class="{ on: state === 'open' }" @click="state = 'open'">Open</button>
      <button class="plain view" :class="{ on: state === 'closed' }" @click="state = 'closed'">Closed</button>
      <PressPopover v-if="session.may('cases.write')" title="Open a case …">
        <form class="new" @submit.prevent="open">
          <Input
            v-model:value="question"
            aria-label="What is to be found out"
            placeholder="What is to be found out"
            :maxlength="300"
          />
          <ProblemNote v-if="problem" :problem="problem" />
          <Button
            size="small"
            type="primary"
            html-type="submit"
            :loading="busy"
            :disabled="question.trim().length < shortest"
            >Open it</Button
          >
        </form>
      </PressPopover>
      <RouterLink class="act" to="/evidence">Packs</RouterLink>
    </header>
    <p class="quiet">
      A case gathers what belongs to one question, whoever looks into it, until it is closed with what was found. Saves
      are gathered from the tray or where they stand open; records, corrections, questions, notes and packs on their own
      pages.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="isPending" class="quiet">Reading …</p>
    <p v-else-if="cases.length === 0">{{ state === 'open' ? 'No case is open.' : 'No case was closed yet.' }}</p>
    <table v-else>
      <thead>
        <tr>
          <th scope="col">Case</th>
          <th scope="col">Question</th>
          <th scope="col">In the hands of</th>
          <th scope="col">Gathered</th>
          <th scope="col">{{ state === 'open' ? 'Opened' : 'Found' }}</th>
          <th scope="col">Last</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in cases" :key="one.id">
          <td>
            <RouterLink :to="link(one.id)">{{ one.id }}</RouterLink>
          </td>
          <th scope="row" class="question">
            <RouterLink :to="link(one.id)"
              ><bdi>{{ one.question }}</bdi></RouterLink
            >
          </th>
          <td>{{ one.owner.name }}</td>
          <td>
            {{ gatheredWords(one.gathered)
            }}<span v-if="one.unanswered > 0" class="attention">, {{ one.unanswered }} without an answer</span>
          </td>
          <td v-if="state === 'open'" :title="fullTime(one.openedAt)">
            {{ one.openedBy }}, {{ shortTime(one.openedAt) }}
          </td>
          <td v-else class="question">
            <bdi>{{ one.finding }}</bdi>
          </td>
          <td class="quiet" :title="fullTime(one.lastAt)">{{ shortTime(one.lastAt) }}</td>
        </tr>
      </tbody>
    </table>
    <Button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()">Show more</Button>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped src="../frame/register.css"></style>
<style scoped>
.question {
  max-width: 420px;
  overflow-wrap: anywhere;
}
.view {
  color: var(--pine);
}
.view.on {
  color: var(--ink);
  font-weight: 650;
}
.new {
  display: grid;
  gap: 8px;
  width: 360px;
}
</style>
