<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Progress from 'ant-design-vue/es/progress'
import { useInfiniteQuery, useQuery } from '@tanstack/vue-query'
import { routes, type ReconciledType } from '@spoor/contract'
import { capitalised, counted, grouped } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import { besideQuery } from '../evidence/beside.ts'
import PickList from '../frame/PickList.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { scopeQuery } from '../scope/query.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import DifferenceItem from './DifferenceItem.vue'

/** What records hold against what their trail says: when it was looked at, and what differs. */
const session = useSession()
const names = useVocabulary(ref({}))
const { data, error, refetch } = useQuery({
  queryKey: ['reconciling'],
  queryFn: () => call(routes.readReconciling),
  refetchInterval: ({ state }) => (state.data && state.data.jobId !== null ? 1000 : 10_000),
})
const settled = ref<'0' | '1'>('0')
const list = useInfiniteQuery({
  queryKey: ['differences', settled],
  queryFn: ({ pageParam }) =>
    call(routes.listDifferences, {
      query: { settled: settled.value, ...(pageParam === null ? {} : { before: String(pageParam) }) },
    }),
  initialPageParam: null as number | null,
  getNextPageParam: (last) => last.next,
})
const differences = computed(() => list.data.value?.pages.flatMap((page) => page.differences) ?? [])
const count = computed(() => list.data.value?.pages[0]?.count ?? 0)

const plural = (id: number) => capitalised(names.value.type(id) ?? `records of type ${id}`)
const jobId = computed(() => data.value?.jobId ?? null)
const { data: jobs } = useQuery({
  queryKey: ['work', 'reconciling'],
  queryFn: () => call(routes.listJobs, { query: {} }),
  enabled: computed(() => jobId.value !== null),
  refetchInterval: 1000,
})
const job = computed(() => jobs.value?.jobs.find(({ id }) => id === jobId.value))
const share = computed(() =>
  job.value?.total ? Math.min(100, Math.floor((job.value.done / job.value.total) * 100)) : 0,
)
watch(jobId, (now, before) => now === null && before !== null && void list.refetch())

const { busy, problem, doing } = useDoing()
const look = (types?: readonly ReconciledType[]) =>
  doing(async () => {
    await call(routes.reconcile, { body: types ? { typeIds: types.map(({ typeId }) => typeId) } : {} })
    await refetch()
  })
const stop = () => doing(() => call(routes.stopJob, { params: { jobId: String(jobId.value) } }))
const paces = [1, 6, 12, 24, 168].map((hours) => ({
  value: hours,
  label:
    hours === 168 ? 'once a week' : hours === 24 ? 'once a day' : hours === 1 ? 'every hour' : `every ${hours} hours`,
}))
const pace = computed({
  get: () => data.value?.everyHours ?? 0,
  set: (hours) =>
    void doing(async () => {
      await call(routes.setReconciling, { body: { everyHours: hours === 0 ? null : hours } })
      await refetch()
    }),
})
/** The changes of the records that are shown as a pack, with all that no save explains beside them. */
const evidenceLink = computed(() => {
  const records = new Map(differences.value.map(({ typeId, key }) => [`${typeId} ${key}`, { typeId, key }]))
  return {
    path: '/evidence/making',
    query: {
      ...scopeQuery({ record: { part: 'record', exclude: false, lines: false, records: [...records.values()] } }),
      ...besideQuery({ beside: 'differences' }),
    },
  }
})
const mayLook = computed(() => session.may('custody.check'))
const looked = computed(() => data.value?.types.filter((type) => type.last !== null) ?? [])
async function changed() {
  await Promise.all([refetch(), list.refetch()])
}
</script>

<template>
  <main class="page" tabindex="0">
    <h1>Records against their trail</h1>
    <p class="quiet">
      What each record holds in the source is compared with what its trail says. What is on its way to the ledger is
      waited for; what remains was written without being captured, and stays here until somebody says what it was.
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)"
      ><button class="plain link" @click="refetch()">Try again</button></ProblemNote
    >
    <ProblemNote v-if="problem" :problem="problem" />
    <p v-if="!data && !error" class="quiet">Looking …</p>
    <template v-if="data">
      <p v-if="data.types.length === 0">Nothing is tracked yet, so there is nothing to compare.</p>
      <section v-else aria-label="Looks">
        <p class="pace">
          <Button v-if="mayLook && jobId === null" type="primary" :loading="busy" @click="look()"
            >Compare all now</Button
          >
          <template v-if="mayLook">
            <span>By itself</span>
            <PickList
              v-model:value="pace as never"
              size="small"
              aria-label="How often by itself"
              :options="[...paces, { value: 0, label: 'never' }]"
              style="width: 150px"
            />
          </template>
          <span v-if="data.nextAt" class="quiet">next {{ fullTime(data.nextAt) }}</span>
        </p>
        <article v-if="jobId !== null" aria-live="polite">
          <p>
            <b>{{ job?.words ?? 'Comparing' }}</b>
            <span class="quiet"
              >&ensp;{{ job?.doing ?? 'begins'
              }}{{ job?.total ? `, ${grouped(job.done)} of ${grouped(job.total)}` : '' }}</span
            >
          </p>
          <p class="pace">
            <Progress v-if="job?.total" :percent="share" aria-label="How far it is" />
            <Button v-if="job?.mayStop" size="small" @click="stop">Stop</Button>
          </p>
        </article>
        <table>
          <thead>
            <tr>
              <th scope="col">Records</th>
              <th scope="col">Compared last</th>
              <th scope="col" class="number">How many</th>
              <th scope="col" class="number">Not as their trail says</th>
              <th scope="col"><span class="visually-hidden">What to do</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="type in data.types" :key="type.typeId">
              <th scope="row">{{ plural(type.typeId) }}</th>
              <td>
                <template v-if="type.last">{{ shortTime(type.last.endedAt) }}</template><span v-else class="quiet"
                  >never</span
                >
              </td>
              <td class="number">{{ type.last ? grouped(type.last.records) : '' }}</td>
              <td class="number" :class="{ attention: type.open > 0 }">
                {{ type.last || type.open > 0 ? grouped(type.open) : '' }}
                <span v-if="type.last && type.last.moving > 0" class="quiet"
                  >({{ counted(type.last.moving, 'record') }} went on changing)</span
                >
              </td>
              <td>
                <button
                  v-if="mayLook && jobId === null"
                  class="plain link"
                  :disabled="busy"
                  :aria-label="`Compare ${plural(type.typeId)} now`"
                  @click="look([type])"
                >
                  Compare now
                </button>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
      <section aria-label="Differences">
        <h2>
          <button class="plain" :class="{ on: settled === '0' }" @click="settled = '0'">Not as their trail says</button>
          <button class="plain" :class="{ on: settled === '1' }" @click="settled = '1'">Settled, or over</button>
          <span v-if="list.data.value" class="quiet">{{ grouped(count) }}</span>
          <RouterLink v-if="differences.length > 0 && session.may('packs.make')" :to="evidenceLink"
            >Evidence …</RouterLink
          >
        </h2>
        <ProblemNote v-if="list.error.value" :problem="problemOf(list.error.value)" />
        <p v-if="list.data.value && differences.length === 0" class="quiet">
          <template v-if="settled === '1'">Nothing was settled yet.</template>
          <template v-else-if="looked.length === 0">Nothing was compared yet.</template>
          <template v-else>Every record that was compared holds what its trail says.</template>
        </p>
        <DifferenceItem v-for="one in differences" :key="one.id" :difference="one" :names="names" @settled="changed" />
        <Button
          v-if="list.hasNextPage.value"
          size="small"
          :loading="list.isFetchingNextPage.value"
          @click="list.fetchNextPage()"
          >Show more</Button
        >
      </section>
    </template>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped>
main > p {
  max-width: 760px;
}
h2 {
  display: flex;
  gap: 18px;
  font-size: 14px;
  font-weight: 400;
  margin: 22px 0 6px;
}
h2 .on {
  font-weight: 650;
  border-bottom: 2px solid var(--pine);
}
.pace {
  margin: 10px 0;
  display: flex;
  align-items: center;
  gap: 12px;
  max-width: 640px;
}
table {
  min-width: 640px;
}
.number {
  text-align: right;
}
.link {
  color: var(--pine);
}
</style>
