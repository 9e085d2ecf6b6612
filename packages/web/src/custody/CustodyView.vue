<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Progress from 'ant-design-vue/es/progress'
import { useQuery } from '@tanstack/vue-query'
import { routes, type ProblemBody, type Seal } from '@spoor/contract'
import { counted, grouped } from '@spoor/core'
import { computed, ref } from 'vue'
import AlarmItem from '../alarms/AlarmItem.vue'
import { addressOf, call, problemOf } from '../api/client.ts'
import ErasureItem from '../erasure/ErasureItem.vue'
import { besideQuery } from '../evidence/beside.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { scopeQuery } from '../scope/query.ts'
import WitnessTable from './WitnessTable.vue'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { fullTime, readerZone, shortTime } from '../value/time.ts'

/** How the ledger is kept: seals over time, the last check, the key, and what does not match. */
const session = useSession()
const { data, error, refetch } = useQuery({
  queryKey: ['custody'],
  queryFn: () => call(routes.readCustody),
  refetchInterval: (query) => (query.state.data?.check && query.state.data.check.endedAt === null ? 1000 : 10_000),
})
const { data: erasures } = useQuery({
  queryKey: ['erasures', 'all'],
  queryFn: () => call(routes.listErasures, { query: {} }),
})
const { data: witnessed, refetch: lookAtWitnesses } = useQuery({
  queryKey: ['witnesses'],
  queryFn: () => call(routes.listWitnesses),
  refetchInterval: 10_000,
})
const givingMs = 6000
async function give() {
  await doing(() => call(routes.giveToWitnesses))
  setTimeout(() => void lookAtWitnesses(), givingMs)
}
const names = useVocabulary(ref({}))
const checking = computed(() => (data.value?.check?.endedAt === null ? data.value.check : null))
const share = computed(
  () => checking.value && Math.floor((checking.value.done / Math.max(1, checking.value.total)) * 100),
)

const { data: page } = useQuery({
  queryKey: ['seals', computed(() => data.value?.seals)],
  queryFn: () => call(routes.listSeals, { query: {} }),
  placeholderData: (before) => before,
})
const older = ref<Seal[]>([])
const olderNext = ref<number | null | undefined>()
const seals = computed(() => [
  ...(page.value?.seals ?? []),
  ...older.value.filter((seal) => seal.number < (page.value?.seals.at(-1)?.number ?? 0)),
])
const next = computed(() => (olderNext.value === undefined ? (page.value?.next ?? null) : olderNext.value))

/** A pack with how the ledger is kept, beside what came in the last days. */
const evidenceDays = 7
const evidenceLink = {
  path: '/evidence/making',
  query: {
    ...scopeQuery({
      when: {
        part: 'when',
        exclude: false,
        effective: false,
        span: { span: 'last', days: evidenceDays, zone: readerZone },
      },
    }),
    ...besideQuery({ beside: 'custody' }),
  },
}
const provedAddress = addressOf(routes.exportProved, { query: { scope: '' } as never })
const problem = ref<ProblemBody | null>(null)
async function doing(work: () => Promise<unknown>) {
  try {
    await work()
    problem.value = null
  } catch (caught) {
    problem.value = problemOf(caught)
  }
  await refetch()
}
const checkNow = () => doing(() => call(routes.checkNow))
const stop = () => doing(() => call(routes.stopCheck))
const more = () =>
  doing(async () => {
    const got = await call(routes.listSeals, { query: { before: String(next.value) } })
    older.value = [...older.value, ...got.seals]
    olderNext.value = got.next
  })

const copied = ref('')
async function copy(what: string, text: string) {
  await navigator.clipboard.writeText(text)
  copied.value = what
  setTimeout(() => (copied.value = ''), 2000)
}
</script>

<template>
  <div class="custody">
    <main>
      <h1>
        Custody of the ledger
        <RouterLink v-if="session.may('packs.make')" class="evidence" :to="evidenceLink">Evidence …</RouterLink>
      </h1>
      <ProblemNote v-if="error" :problem="problemOf(error)"
        ><button class="plain link" @click="refetch()">Try again</button></ProblemNote
      >
      <p v-if="!data && !error" class="quiet">Looking …</p>
      <template v-if="data">
        <section v-if="data.mismatches.length > 0" class="alarm" role="alert" aria-label="What does not match">
          <h2>
            {{ counted(data.mismatches.length, 'place') }} in the ledger
            {{ data.mismatches.length === 1 ? 'is' : 'are' }} not as it was written
          </h2>
          <p>
            Somebody with rights over the database, or a fault of the disk, changed what the seals cover. Nothing was
            put right by Spoor. Keep a copy of the database as it is, find out who had access between the two seals, and
            compare with a backup from before.
          </p>
          <AlarmItem v-for="one in data.mismatches" :key="one.id" :alarm="one" @settled="refetch()" />
        </section>

        <section aria-label="Checking">
          <h2>Checking</h2>
          <p v-if="data.lastWhole?.endedAt">
            Last checked from beginning to end {{ fullTime(data.lastWhole.endedAt)
            }}{{ data.lastWhole.by ? `, for ${data.lastWhole.by}` : '' }}: {{ counted(data.lastWhole.total, 'save') }},
            <b v-if="data.lastWhole.found === 0">every one in place</b
            ><b v-else class="failure">{{ counted(data.lastWhole.found, 'place') }} not as written</b>.
          </p>
          <p v-else class="quiet">Not checked to the end yet.</p>
          <template v-if="checking">
            <p>Reading {{ grouped(checking.done) }} of {{ counted(checking.total, 'save') }} …</p>
            <Progress :percent="share ?? 0" aria-label="Saves checked" />
          </template>
          <p v-else-if="data.check?.trouble" class="quiet">The latest check: {{ data.check.trouble }}</p>
          <p class="ways">
            <Button
              v-if="session.may('custody.check') && (!checking || checking.by === null)"
              type="primary"
              @click="checkNow"
              >Check it now</Button
            >
            <Button v-if="session.may('custody.check') && checking" @click="stop">Stop</Button>
          </p>
          <ProblemNote v-if="problem" :problem="problem" />
          <p class="quiet">
            Every day the whole ledger is read and compared: each value and each save with its digest, each save with
            the tree, the tree with every seal, the counts with what they count, and the seals with the copies that are
            kept outside the database.
          </p>
          <p class="quiet">
            So is what people rely on beside saves: who may do what, the directory, names of record types and fields,
            plans and coverage, notes, questions and answers, cases, corrections, what stood out, watches, alarms, these
            checks and what witnesses took. Not under any seal, and not to be relied on: when somebody was last seen,
            how far behind a source is, counts of rows written, drafts, what watches told, and the layout of lists.
          </p>
        </section>

        <section v-if="erasures && erasures.erasures.length > 0" id="erasures" aria-label="Values erased by law">
          <h2>Values erased by law</h2>
          <ErasureItem v-for="one in erasures.erasures" :key="one.id" :erasure="one" :names="names" @decided="refetch()"
            ><RouterLink :to="{ path: '/changes', query: { save: one.saveId } }">Open the save</RouterLink></ErasureItem
          >
        </section>

        <section aria-label="Witnesses">
          <h2>Witnesses</h2>
          <p class="quiet">
            Who is given seals, and keeps them where nobody who has rights over this database can reach them. With a
            seal from before, anybody can tell later whether something it covers was changed. They are set where Spoor
            is started.
          </p>
          <WitnessTable v-if="witnessed && witnessed.witnesses.length > 0" :witnesses="witnessed.witnesses" />
          <p v-else-if="witnessed">
            Nobody outside is given seals: see SPOOR_TIME_STAMP_URL, SPOOR_WITNESS_FOLDERS, SPOOR_WITNESS_URLS and
            SPOOR_WITNESS_MAIL in the README.
          </p>
          <p
            v-if="session.may('custody.check') && witnessed?.witnesses.some((one) => one.endedAt === null)"
            class="ways"
          >
            <Button size="small" @click="give">Give them the latest seal now</Button>
          </p>
        </section>

        <section aria-label="Seals">
          <h2>Seals</h2>
          <table v-if="seals.length > 0">
            <thead>
              <tr>
                <th scope="col">Seal</th>
                <th scope="col">Made</th>
                <th scope="col">Saves added</th>
                <th scope="col">Saves in all</th>
                <th scope="col">Events and facts</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="seal in seals" :key="seal.number">
                <td>{{ grouped(seal.number) }}</td>
                <td>{{ fullTime(seal.at) }}</td>
                <td>{{ grouped(seal.added) }}</td>
                <td>{{ grouped(seal.size) }}</td>
                <td>{{ grouped(seal.events) }}</td>
              </tr>
            </tbody>
          </table>
          <p v-else class="quiet">No seal yet; the first comes with the first saves.</p>
          <button v-if="next !== null" class="plain link" @click="more">Older seals</button>
        </section>
      </template>
    </main>
    <aside v-if="data" aria-label="Key and latest seal">
      <section>
        <h2>The ledger</h2>
        <p>
          {{ counted(data.saves, 'save') }}, under {{ counted(data.seals, 'seal')
          }}<template v-if="data.open > 0">; {{ grouped(data.open) }} not sealed yet</template>.
          <template v-if="data.before > 0"
            >{{ counted(data.before, 'save') }} from before sealing began are under none.</template
          >
        </p>
      </section>
      <section v-if="data.latest">
        <h2>The latest seal</h2>
        <p class="quiet">
          Seal {{ grouped(data.latest.number) }}, {{ shortTime(data.latest.at) }}. Give it to somebody outside: with it
          they can tell later whether anything before it was changed.
        </p>
        <pre class="mono" tabindex="0" aria-label="The latest seal as text">{{ data.latest.note }}</pre>
        <Button size="small" @click="copy('seal', data.latest.note)">{{
          copied === 'seal' ? 'Copied' : 'Copy the seal'
        }}</Button>
      </section>
      <section>
        <h2>To check it elsewhere</h2>
        <p class="quiet">
          Every save with its proof, as a file that <span class="mono">spoor-verify</span> checks without Spoor and
          without a database. Under Changes, a scope is taken out in the same way.
        </p>
        <Button size="small" :href="provedAddress" download>Take everything out with proofs</Button>
      </section>
      <section v-if="data.key">
        <h2>The public key</h2>
        <p class="quiet">In use since {{ fullTime(data.key.since) }}. Fingerprint:</p>
        <p class="mono print">{{ data.key.fingerprint }}</p>
        <Button size="small" @click="copy('key', data.key.line)">{{
          copied === 'key' ? 'Copied' : 'Copy the key'
        }}</Button>
      </section>
    </aside>
  </div>
</template>

<style scoped>
.evidence {
  margin-left: 12px;
  font-size: 13px;
  font-weight: 400;
}
.custody {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(0, 1fr) clamp(330px, 34vw, 460px);
}
main {
  overflow: auto;
  padding: 16px 34px 30px 56px;
}
aside {
  overflow: auto;
  padding: 18px 26px;
  background: var(--panel);
  border-left: 1px solid var(--line);
  font-size: 13px;
}
section {
  margin-bottom: 24px;
  display: grid;
  gap: 6px;
  justify-items: start;
}
h1 {
  font-size: 24px;
  line-height: 32px;
  font-weight: 650;
  margin-bottom: 12px;
}
h2 {
  font-size: 15.5px;
  font-weight: 650;
}
.alarm {
  background: var(--panel);
  border-left: 4px solid var(--fail);
  padding: 12px 18px;
}
.alarm h2 {
  color: var(--fail);
}
.alarm article {
  border-top: 1px solid var(--line-soft);
  padding-top: 7px;
  width: 100%;
  font-size: 13px;
}
.alarm form {
  display: flex;
  gap: 8px;
  margin-top: 4px;
}
.digest,
.print {
  overflow-wrap: anywhere;
}
section > :deep(.ant-progress) {
  width: 100%;
}
.ways {
  display: flex;
  gap: 10px;
}
.link {
  color: var(--pine);
}
table {
  border-collapse: collapse;
  font-size: 13px;
}
th {
  text-align: left;
  font-weight: 500;
  color: var(--soft);
}
th,
td {
  padding: 3px 22px 3px 0;
  border-bottom: 1px solid var(--line-soft);
}
pre {
  margin: 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 11.5px;
  border: 1px solid var(--line);
  padding: 8px 10px;
  width: 100%;
}
</style>
