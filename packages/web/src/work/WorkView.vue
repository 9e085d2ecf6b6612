<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Progress from 'ant-design-vue/es/progress'
import { useInfiniteQuery } from '@tanstack/vue-query'
import { routes, type Job, type ProblemBody } from '@spoor/contract'
import { grouped } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { fullTime } from '../value/time.ts'

/** Long work: what is under way, and what became of the rest. */
const { data, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery({
  queryKey: ['work'],
  queryFn: ({ pageParam }) => call(routes.listJobs, { query: pageParam === null ? {} : { before: String(pageParam) } }),
  initialPageParam: null as number | null,
  getNextPageParam: (last) => last.next,
  refetchInterval: (query) =>
    query.state.data?.pages.some((page) => page.jobs.some((job) => job.endedAt === null)) ? 1000 : 5000,
})
const jobs = computed(() => data.value?.pages.flatMap((page) => page.jobs) ?? [])
const going = computed(() => jobs.value.filter((job) => job.endedAt === null))
const ended = computed(() => jobs.value.filter((job) => job.endedAt !== null))

const problem = ref<ProblemBody | null>(null)
async function stop(job: Job) {
  try {
    await call(routes.stopJob, { params: { jobId: String(job.id) } })
    problem.value = null
  } catch (caught) {
    problem.value = problemOf(caught)
  }
  await refetch()
}
const share = (job: Job) => (job.total ? Math.min(100, Math.floor((job.done / job.total) * 100)) : 0)
function state(job: Job): string {
  if (job.stopping) return 'stopping …'
  if (job.beganAt === null) return 'waits for its turn'
  const far = job.total === null ? '' : `${grouped(job.done)} of ${grouped(job.total)}`
  return [job.doing, far].filter(Boolean).join(', ') || 'begins'
}
const became = { done: 'Done', stopped: 'Stopped', failed: 'Failed' } as const
function took(job: Job): string {
  const ms = Date.parse(job.endedAt!) - Date.parse(job.beganAt ?? job.askedAt)
  if (ms < 1000) return 'under a second'
  const seconds = Math.round(ms / 1000)
  return seconds < 60 ? `${seconds} s` : `${Math.floor(seconds / 60)} min ${seconds % 60} s`
}
</script>

<template>
  <main class="page" tabindex="0">
    <h1>Long work</h1>
    <p class="quiet">
      What takes more than a moment is done here, whoever looks on. It begins again where a server stopped. Whatever can
      be stopped has a button for it, and leaves everything as it was.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)"
      ><button class="plain link" @click="refetch()">Try again</button></ProblemNote
    >
    <ProblemNote v-if="problem" :problem="problem" />
    <p v-if="!data && !error" class="quiet">Looking …</p>
    <template v-if="data">
      <section aria-label="Under way">
        <h2>Under way</h2>
        <p v-if="going.length === 0" class="quiet">Nothing at this moment.</p>
        <article v-for="job in going" :key="job.id">
          <p>
            <b>{{ job.words }}</b> <span class="quiet">{{ job.by ? `for ${job.by}` : 'by itself' }}</span>
          </p>
          <div class="far">
            <Progress v-if="job.total" :percent="share(job)" :aria-label="job.words" />
            <Button v-if="job.mayStop" size="small" @click="stop(job)">Stop</Button>
          </div>
          <p class="quiet" aria-live="polite">{{ state(job) }}</p>
          <p v-if="job.result" class="attention">It stumbled and tries again: {{ job.result }}</p>
        </article>
      </section>
      <section aria-label="What became of the rest">
        <h2>What became of the rest</h2>
        <p v-if="ended.length === 0" class="quiet">Nothing yet.</p>
        <table v-else>
          <thead>
            <tr>
              <th scope="col">Ended</th>
              <th scope="col">What</th>
              <th scope="col">For</th>
              <th scope="col">Took</th>
              <th scope="col">What became of it</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="job in ended" :key="job.id">
              <td class="when">{{ fullTime(job.endedAt!) }}</td>
              <td>{{ job.words }}</td>
              <td class="when">{{ job.by ?? 'Spoor itself' }}</td>
              <td class="when">{{ took(job) }}</td>
              <td>
                <b :class="{ failure: job.outcome === 'failed' }">{{ became[job.outcome!] }}.</b>{{ ' ' }}
                <bdi>{{ job.result }}</bdi>
              </td>
            </tr>
          </tbody>
        </table>
        <Button v-if="hasNextPage" size="small" :loading="isFetchingNextPage" @click="fetchNextPage()"
          >Show earlier ones</Button
        >
      </section>
    </template>
  </main>
</template>

<style scoped>
main {
  padding: 24px 28px;
  max-width: 1180px;
  width: 100%;
  margin: 0 auto;
  overflow: auto;
}
h1 {
  font-size: 20px;
  margin: 0 0 6px;
}
h2 {
  font-size: 15px;
  margin: 22px 0 6px;
}
article {
  margin-bottom: 14px;
}
article p {
  margin: 0;
}
.far {
  display: flex;
  gap: 12px;
  align-items: center;
  max-width: 640px;
}
table {
  width: 100%;
  border-collapse: collapse;
  margin-bottom: 10px;
}
th,
td {
  text-align: left;
  vertical-align: top;
  padding: 5px 14px 5px 0;
  border-bottom: 1px solid var(--line);
}
.when {
  white-space: nowrap;
}
</style>
