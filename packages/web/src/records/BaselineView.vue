<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import DatePicker from 'ant-design-vue/es/date-picker'
import Input from 'ant-design-vue/es/input'
import Radio from 'ant-design-vue/es/radio'
import { useInfiniteQuery, useQuery, useQueryClient } from '@tanstack/vue-query'
import type { Dayjs } from 'dayjs'
import { meanings, routes } from '@spoor/contract'
import { counted, grouped, listed } from '@spoor/core'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import { useRevert } from '../corrections/revert.ts'
import { besideQuery } from '../evidence/beside.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { fromCalendar, fullTime, readerZone, shortTime, toCalendar } from '../value/time.ts'
import ValueText from '../value/ValueText.vue'
import { recordLink } from './link.ts'

/** A baseline: what it is, who signed it off, and what of it is another by now. */
const route = useRoute()
const session = useSession()
const cache = useQueryClient()
const names = useVocabulary(ref({}))
const id = computed(() => String(route.params['baselineId']))
const key = computed(() => ['baseline', id.value])
const { data, error } = useQuery({
  queryKey: key,
  queryFn: () => call(routes.readBaseline, { params: { baselineId: id.value } }),
  refetchInterval: ({ state }) => (state.data?.state === 'going' ? 700 : false),
})
/** Null is now. */
const until = ref<number | null>(null)
const compared = useInfiniteQuery({
  queryKey: ['baseline-comparison', id, until],
  queryFn: ({ pageParam }) =>
    call(routes.compareBaseline, {
      params: { baselineId: id.value },
      query: {
        ...(until.value === null ? {} : { until: new Date(until.value).toISOString() }),
        ...(pageParam === null ? {} : { after: pageParam }),
      },
    }),
  initialPageParam: null as string | null,
  getNextPageParam: (last) => last.next,
  enabled: computed(() => data.value?.state === 'kept'),
})
const first = computed(() => compared.data.value?.pages[0])
const moves = computed(() => compared.data.value?.pages.flatMap((page) => page.moves) ?? [])
const scope = computed(() => Object.fromEntries(new URLSearchParams(first.value?.scope ?? '').entries()))
const scopeLink = computed(() => ({
  path: '/changes',
  query: { ...scope.value, record: new URLSearchParams(first.value?.scope ?? '').getAll('record') },
}))
/** What came between as a pack, with what moved beside it. */
const evidenceLink = computed(() => ({
  path: '/evidence/making',
  query: {
    ...scopeLink.value.query,
    ...besideQuery({ beside: 'baseline', baselineId: Number(id.value), until: first.value?.until ?? '' }),
  },
}))

const { busy, problem, doing } = useDoing()
const meaning = ref<(typeof meanings)[number]>('checked')
const note = ref('')
const sign = () =>
  doing(async () => {
    const body = { meaning: meaning.value, ...(note.value.trim() === '' ? {} : { note: note.value }) }
    cache.setQueryData(key.value, await call(routes.signBaseline, { params: { baselineId: id.value }, body }))
    note.value = ''
    void cache.invalidateQueries({ queryKey: ['baselines'] })
  })
const checking = ref<number | null>(null)
const { data: jobs } = useQuery({
  queryKey: ['work', 'baseline'],
  queryFn: () => call(routes.listJobs, { query: {} }),
  enabled: computed(() => checking.value !== null || data.value?.state === 'going'),
  refetchInterval: 700,
})
const job = computed(() => jobs.value?.jobs.find((one) => one.id === (checking.value ?? data.value?.jobId)))
const check = () =>
  doing(async () => {
    checking.value = (await call(routes.checkBaseline, { params: { baselineId: id.value } })).jobId
  })
const stop = () => doing(() => call(routes.stopJob, { params: { jobId: String(job.value!.id) } }))
const { draft, busy: drafting, problem: draftProblem } = useRevert()
function setUntil(picked: Dayjs | null) {
  until.value = picked ? fromCalendar(picked) : null
}
</script>

<template>
  <main v-if="error"><ProblemNote :problem="problemOf(error)" /></main>
  <main v-else-if="!data"><p class="quiet">Reading …</p></main>
  <main v-else class="page" tabindex="0">
    <h1>
      <bdi>{{ data.name }}</bdi> <span class="quiet">baseline {{ data.id }}</span>
    </h1>
    <p>
      {{ data.state === 'going' ? 'Being put down' : counted(data.records, 'record') }}: {{ data.meant }}, as they stood
      {{ fullTime(data.at) }}.
      <span class="quiet"
        >Of each {{ listed(data.fieldIds.map((one) => names.fieldName(one))) }}. Made by {{ data.madeBy }},
        {{ fullTime(data.madeAt) }}: “<bdi>{{ data.why }}</bdi
        >”.</span
      >
    </p>
    <p v-if="data.state === 'going'" aria-live="polite">
      {{ job?.doing ?? 'It begins' }}{{ job ? `, ${grouped(job.done)} so far` : '' }}
      <Button v-if="job?.mayStop" size="small" @click="stop">Stop</Button>
    </p>
    <template v-else>
      <p class="quiet mono digest">digest {{ data.digest }}</p>
      <section aria-label="Signatures">
        <h2>Signed off</h2>
        <p v-if="data.signatures.length === 0" class="quiet">By nobody yet.</p>
        <ul v-else>
          <li v-for="one in data.signatures" :key="`${one.by} ${one.meaning}`">
            <b>{{ one.meaning }}</b> by {{ one.by }}, {{ fullTime(one.at)
            }}<template v-if="one.note"
              >: “<bdi>{{ one.note }}</bdi
              >”</template
            >
          </li>
        </ul>
        <form v-if="session.may('baselines.sign')" class="row" @submit.prevent="sign">
          <Radio.Group v-model:value="meaning" aria-label="What you say by signing">
            <Radio v-for="one in meanings" :key="one" :value="one">{{ one }}</Radio>
          </Radio.Group>
          <Input v-model:value="note" size="small" class="note" aria-label="A note" placeholder="A note, if you like" />
          <Button size="small" html-type="submit" :loading="busy">Sign it</Button>
          <Button v-if="session.may('baselines.make')" size="small" :loading="busy" @click="check"
            >Check it against the ledger</Button
          >
          <span v-if="checking !== null" class="quiet" role="status">{{
            job?.endedAt ? job.result : `${job?.doing ?? 'begins'} …`
          }}</span>
        </form>
        <ProblemNote v-if="problem" :problem="problem" />
      </section>
      <section aria-label="Compared with later">
        <h2>
          Against it, as of
          <DatePicker
            size="small"
            show-time
            format="D MMM YY HH:mm"
            placeholder="now"
            :aria-label="`Compared with, ${readerZone}`"
            :value="(until === null ? undefined : toCalendar(until)) as never"
            @change="setUntil($event as never)"
          />
        </h2>
        <ProblemNote v-if="compared.error.value" :problem="problemOf(compared.error.value)" />
        <p v-else-if="!first" class="quiet">Comparing …</p>
        <template v-else>
          <p>
            <b v-if="first.values === 0 && first.deleted === 0">Every record holds what it held.</b>
            <template v-else
              ><b>{{ counted(first.values, 'value') }} of {{ counted(first.moved, 'record') }}</b> another
              since<template v-if="first.deleted > 0"
                >, {{ counted(first.deleted, 'record') }} deleted</template
              ></template
            ><template v-if="first.made">, {{ counted(first.made, 'record') }} made</template>.
            <RouterLink v-if="first.values > 0" :to="scopeLink">What came between, in Changes</RouterLink>
            <RouterLink v-if="session.may('packs.make')" class="evidence" :to="evidenceLink">Evidence …</RouterLink>
          </p>
          <p v-if="first.values > 0 && until === null && session.may('corrections.draft')" class="row">
            <Button size="small" :loading="drafting" @click="draft({ baselineId: data.id })"
              >Put all back to it …</Button
            >
            <span class="quiet">drafts and rehearses; nothing is written yet</span>
          </p>
          <ProblemNote v-if="draftProblem" :problem="draftProblem" />
          <p v-if="first.gone.length > 0">
            Deleted:
            <template v-for="(one, at) in first.gone" :key="one.key"
              >{{ at > 0 ? ', ' : ''
              }}<RouterLink :to="recordLink({ typeId: data.typeId, key: one.key })"
                ><bdi>{{ one.label }}</bdi></RouterLink
              >
              &ensp;<span class="quiet">{{ shortTime(one.at) }}</span></template
            >
          </p>
          <table v-if="moves.length > 0">
            <thead>
              <tr>
                <th scope="col">Record</th>
                <th scope="col">Field</th>
                <th scope="col">In the baseline</th>
                <th scope="col">{{ until === null ? 'Now' : 'Then' }}</th>
                <th scope="col">How</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="one in moves" :key="`${one.key} ${one.fieldId}`">
                <th scope="row">
                  <RouterLink :to="recordLink({ typeId: data.typeId, key: one.key })"
                    ><bdi>{{ one.label }}</bdi></RouterLink
                  >
                </th>
                <td>{{ names.fieldName(one.fieldId) }}</td>
                <td v-for="side in ['before', 'after'] as const" :key="side">
                  <span v-if="one.hidden === 'erased'" class="quiet">erased</span
                  ><ValueText
                    v-else
                    :value="side === 'before' ? one.then : one.later"
                    :masked="one.hidden === 'masked'"
                    :base-type="names.baseType(one.fieldId)"
                    :side="side"
                  />
                </td>
                <td class="quiet">
                  {{ one.changes > 1 ? `${counted(one.changes, 'change')}, the last ` : '' }}by {{ one.lastBy }},
                  <RouterLink :to="{ path: '/changes', query: { save: one.lastSaveId } }">{{
                    shortTime(one.lastAt)
                  }}</RouterLink>
                </td>
              </tr>
            </tbody>
          </table>
          <Button
            v-if="compared.hasNextPage.value"
            size="small"
            :loading="compared.isFetchingNextPage.value"
            @click="compared.fetchNextPage()"
            >Show more</Button
          >
        </template>
      </section>
    </template>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped>
h1 .quiet {
  font-size: 14px;
  font-weight: 400;
}
h2 {
  font-size: 14px;
  font-weight: 650;
  margin: 18px 0 6px;
}
p {
  margin: 0 0 6px;
}
.digest {
  font-size: 12px;
  overflow-wrap: anywhere;
}
.row {
  display: flex;
  align-items: center;
  flex-wrap: wrap;
  gap: 10px;
  font-size: 13px;
}
.note {
  width: 260px;
}
th,
td {
  vertical-align: top;
  max-width: 300px;
  overflow-wrap: anywhere;
}
</style>
