<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import InputNumber from 'ant-design-vue/es/input-number'
import Progress from 'ant-design-vue/es/progress'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type Pack } from '@spoor/contract'
import { capitalised, counted } from '@spoor/core'
import { computed, reactive, ref } from 'vue'
import { useRoute } from 'vue-router'
import { addressOf, call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import GatherInCase from '../cases/GatherInCase.vue'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime } from '../value/time.ts'
import PackPaper from './PackPaper.vue'
import { addressesIn } from '../value/addresses.ts'
import { useRegularPacks } from './regular.ts'
import { sizeWords } from './words.ts'

/** A pack of the register: what it is, who took it, and its first page. */
const route = useRoute()
const session = useSession()
const cache = useQueryClient()
const id = computed(() => String(route.params['packId']))
const key = computed(() => ['pack', id.value])
const about = () => ({ params: { packId: id.value } })
const { data, error, refetch } = useQuery({
  queryKey: key,
  queryFn: () => call(routes.readPack, about()),
  refetchInterval: ({ state: { data: pack } }) =>
    pack?.state === 'going' ? 700 : pack?.mails.some(({ state }) => state === 'waiting') ? 2000 : false,
})
const work = computed(() => data.value?.work ?? null)
const share = computed(() =>
  work.value?.total ? Math.min(100, Math.floor((work.value.done / work.value.total) * 100)) : 0,
)
const stateWords = { going: 'being made', kept: 'kept', failed: 'not made', withdrawn: 'withdrawn' } as const
const { busy, problem, doing } = useDoing()
const stop = () =>
  doing(async () => {
    await call(routes.stopJob, { params: { jobId: String(work.value!.jobId) } })
    await refetch()
  })
const reason = ref('')
const withdraw = () =>
  doing(async () => {
    cache.setQueryData(key.value, await call(routes.withdrawPack, { ...about(), body: { why: reason.value } }))
    void cache.invalidateQueries({ queryKey: ['packs'] })
  })
const link = reactive({ forWhom: '', days: 14, most: 3 })
/** The address of a link is told once. */
const told = ref<string | null>(null)
const hand = () =>
  doing(async () => {
    const { linkToken: token, pack } = await call(routes.makePackLink, { ...about(), body: { ...link } })
    told.value = `${location.origin}/handed/${token}`
    cache.setQueryData(key.value, pack)
  })
const mail = reactive({ to: '', days: 30, most: 5 })
const { data: regular } = useRegularPacks()
const mails = computed(() => addressesIn(mail.to))
const send = () =>
  doing(async () => {
    const body = { to: mails.value, days: mail.days, most: mail.most }
    cache.setQueryData(key.value, await call(routes.mailPack, { ...about(), body }))
    mail.to = ''
  })
function mailWords({ state, tries, trouble, sentAt, dueAt }: Pack['mails'][number]): string {
  if (state === 'sent') return `mail taken ${fullTime(sentAt!)}`
  if (state === 'given up') return `given up: ${trouble ?? ''}`
  return tries === 0 ? 'on its way' : `not taken (${trouble ?? ''}), again ${fullTime(dueAt)}`
}
const endLink = (linkId: number) =>
  doing(async () => {
    const params = { packId: id.value, linkId: String(linkId) }
    cache.setQueryData(key.value, await call(routes.endPackLink, { params }))
  })
/** Tables that stand in it beside the changes. */
const beside = computed(
  () => data.value?.cover?.files.filter(({ name }) => /^data\/(worked-out|beside-\d+)\.csv$/.test(name)) ?? [],
)

/** What is taken is told once it was asked for. */
const toldAfterMs = 1500
const taken = () => setTimeout(() => void refetch(), toldAfterMs)
const again = computed(() => ({
  path: '/evidence/making',
  query: { ...queryOf(data.value?.scope ?? ''), again: id.value },
}))
function queryOf(scope: string): Record<string, string[]> {
  const all = new URLSearchParams(scope)
  return Object.fromEntries([...new Set(all.keys())].map((name) => [name, all.getAll(name)]))
}
</script>

<template>
  <main v-if="error" class="alone"><ProblemNote :problem="problemOf(error)" /></main>
  <main v-else-if="!data" class="alone"><p class="quiet">Reading …</p></main>
  <div v-else class="both">
    <main class="left">
      <h1>
        Pack {{ data.id }} <span class="quiet state">{{ stateWords[data.state] }}</span>
      </h1>
      <dl>
        <dt>for</dt>
        <dd>
          <bdi>{{ data.title }}</bdi>
        </dd>
        <dt>why</dt>
        <dd>
          “<bdi>{{ data.why }}</bdi
          >”
        </dd>
        <dt>made by</dt>
        <dd>{{ data.madeBy }}, {{ fullTime(data.madeAt ?? data.askedAt) }}</dd>
        <template v-if="data.size !== null">
          <dt>file</dt>
          <dd>pack-{{ data.id }}.zip, {{ sizeWords(data.size) }}</dd>
        </template>
        <template v-if="beside.length > 0">
          <dt>beside them</dt>
          <dd>
            <p v-for="one in beside" :key="one.name">{{ capitalised(one.what) }}</p>
          </dd>
        </template>
        <template v-if="data.digest">
          <dt>digest</dt>
          <dd class="mono digest" title="SHA-256 of the file">{{ data.digest }}</dd>
        </template>
        <template v-if="data.withdrawn">
          <dt>withdrawn</dt>
          <dd>
            by {{ data.withdrawn.by }}, {{ fullTime(data.withdrawn.at) }}: “<bdi>{{ data.withdrawn.why }}</bdi
            >”. Its file is removed; whoever took it before still has it.
          </dd>
        </template>
        <dt>taken</dt>
        <dd>
          <p v-if="data.takenCount === 0" class="quiet">by nobody yet</p>
          <p v-for="(one, at) in data.taken" :key="at">{{ one.by }}, {{ fullTime(one.at) }}</p>
          <p v-if="data.takenCount > data.taken.length" class="quiet">
            and {{ counted(data.takenCount - data.taken.length, 'time') }} before
          </p>
        </dd>
        <template v-if="data.mails.length > 0">
          <dt>sent</dt>
          <dd>
            <p v-for="one in data.mails" :key="one.id" :class="{ failure: one.state === 'given up' }">
              to <bdi>{{ one.to }}</bdi> by {{ one.by }}: <bdi>{{ mailWords(one) }}</bdi>
            </p>
          </dd>
        </template>
        <template v-if="data.links.length > 0">
          <dt>handed over</dt>
          <dd>
            <p v-for="one in data.links" :key="one.id">
              to <bdi>{{ one.forWhom }}</bdi> by {{ one.by }}: taken {{ one.taken }} of {{ counted(one.most, 'time') }},
              {{ one.open ? `until ${fullTime(one.endsAt)}` : 'ended' }}
              <button
                v-if="one.open && session.may('packs.hand')"
                class="plain link"
                :aria-label="`End the link for ${one.forWhom}`"
                @click="endLink(one.id)"
              >
                End it
              </button>
            </p>
          </dd>
        </template>
      </dl>
      <p v-if="told" class="told" role="status">
        The link, which is told this once: <span class="mono">{{ told }}</span>
      </p>
      <p v-if="data.state === 'going'" class="work" role="status">
        <span>{{ capitalised(work?.doing ?? 'it begins') }} …</span>
        <Progress :percent="share" size="small" aria-label="How far it is" />
        <Button v-if="work" size="small" :loading="busy" @click="stop">Stop; no pack is made</Button>
      </p>
      <p v-if="data.failed" class="failure" role="alert">
        It was not made: <bdi>{{ data.failed }}</bdi>
      </p>
      <ProblemNote v-if="problem" :problem="problem" />
      <footer>
        <a
          v-if="data.state === 'kept'"
          class="take"
          :href="addressOf(routes.takePack, { params: { packId: id } })"
          download
          @click="taken"
          >Take the file</a
        >
        <RouterLink v-if="session.may('packs.make') && data.state !== 'going'" :to="again">Make it again …</RouterLink>
        <PressPopover v-if="data.state === 'kept' && session.may('packs.hand')" title="Hand over …">
          <form class="back" @submit.prevent="hand">
            <p>A link by which somebody without a sign-in takes it. Each taking is written down.</p>
            <label>For whom <Input v-model:value="link.forWhom" :maxlength="200" /></label>
            <label
              >It ends after, days <InputNumber v-model:value="link.days" :min="1" :max="366" :precision="0"
            /></label>
            <label
              >It can be taken, times <InputNumber v-model:value="link.most" :min="1" :max="1000" :precision="0"
            /></label>
            <Button html-type="submit" size="small" :loading="busy" :disabled="link.forWhom.trim().length < 2"
              >Make the link</Button
            >
          </form>
        </PressPopover>
        <PressPopover v-if="data.state === 'kept' && session.may('packs.hand') && regular?.mayMail" title="Send …">
          <form class="back" @submit.prevent="send">
            <p>A mail to each address with a link of its own. Each taking is written down.</p>
            <label>To, with commas <Input v-model:value="mail.to" :maxlength="4000" /></label>
            <label
              >Its link ends after, days <InputNumber v-model:value="mail.days" :min="1" :max="366" :precision="0"
            /></label>
            <label
              >It can be taken, times <InputNumber v-model:value="mail.most" :min="1" :max="1000" :precision="0"
            /></label>
            <Button html-type="submit" size="small" :loading="busy" :disabled="mails.length === 0">Send it</Button>
          </form>
        </PressPopover>
        <GatherInCase v-if="session.may('cases.write')" :thing="{ kind: 'pack', packId: data.id }" />
        <PressPopover v-if="data.state === 'kept' && session.may('packs.withdraw')" title="Withdraw …">
          <form class="back" @submit.prevent="withdraw">
            <p>Nobody can take it any more, and its file is removed. What was taken before stays what it is.</p>
            <Input v-model:value="reason" aria-label="Why it is withdrawn" placeholder="Why it is withdrawn" />
            <Button html-type="submit" size="small" :loading="busy" :disabled="reason.trim().length < 3"
              >Withdraw it</Button
            >
          </form>
        </PressPopover>
      </footer>
    </main>
    <section class="right" aria-label="The first page" tabindex="0">
      <PackPaper v-if="data.cover" :cover="data.cover" />
      <p v-else class="quiet">
        {{
          data.state === 'going'
            ? 'Its first page is there when it is made.'
            : data.state === 'failed'
              ? 'There is no first page.'
              : 'Its first page was removed with what it told.'
        }}
      </p>
    </section>
  </div>
</template>

<style scoped src="./take.css"></style>
<style scoped>
.alone {
  padding: 22px 28px;
}
.both {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(340px, 1fr) minmax(420px, 2fr);
}
.left {
  background: var(--panel);
  border-right: 1px solid var(--line);
  padding: 14px 22px;
  overflow: auto;
}
h1 {
  font-size: 19px;
  line-height: 26px;
  font-weight: 650;
}
.state {
  font-size: 14px;
  font-weight: 400;
}
dl {
  display: grid;
  grid-template-columns: 90px minmax(0, 1fr);
  margin: 6px 0 12px;
}
dt,
dd {
  border-top: 1px solid var(--line-soft);
  padding: 7px 0;
  overflow-wrap: anywhere;
}
dt {
  color: var(--soft);
}
.digest {
  font-size: 12px;
}
.work {
  display: grid;
  gap: 6px;
  justify-items: start;
  margin-bottom: 12px;
}
footer {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 10px 16px;
}
footer a {
  white-space: nowrap;
}
.back {
  display: grid;
  gap: 8px;
  justify-items: start;
  width: 340px;
}
.link {
  color: var(--pine);
}
.told {
  overflow-wrap: anywhere;
  background: var(--pine-wash);
  padding: 8px 10px;
  margin-bottom: 12px;
}
.back label {
  display: grid;
  gap: 2px;
  width: 100%;
}
.right {
  overflow: auto;
  padding: 20px 28px;
}
</style>
