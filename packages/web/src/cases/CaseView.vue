<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { caseKinds, routes, type CaseOpened } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PickList from '../frame/PickList.vue'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { fullTime } from '../value/time.ts'
import CaseItems from './CaseItems.vue'
import { entryWords, gatheredWords } from './words.ts'

/** One case: what is gathered at the left, what was written beside it, and the way to its end. */
const route = useRoute()
const session = useSession()
const cache = useQueryClient()
const id = computed(() => String(route.params['caseId']))
const about = () => ({ params: { caseId: id.value } })
const key = computed(() => ['case', id.value])
const { data, error, refetch } = useQuery({ queryKey: key, queryFn: () => call(routes.readCase, about()) })
const mayWrite = computed(() => session.may('cases.write'))
const isOpen = computed(() => data.value?.state === 'open')
const kinds = computed(() => caseKinds.filter((kind) => (data.value?.gathered[kind] ?? 0) > 0))
/** Of what is gathered there are saves: packs alone have none of their own. */
const hasSaves = computed(() => kinds.value.some((kind) => kind !== 'pack'))
const { busy, problem, doing } = useDoing()
function put(opened: CaseOpened) {
  cache.setQueryData(key.value, opened)
  void cache.invalidateQueries({ queryKey: ['cases'] })
  void cache.invalidateQueries({ queryKey: ['waiting'] })
}
const text = ref('')
const write = () =>
  doing(async () => {
    put(await call(routes.writeInCase, { ...about(), body: { text: text.value } }))
    text.value = ''
  })
const finding = ref('')
const close = () =>
  doing(async () => {
    put(await call(routes.closeCase, { ...about(), body: { finding: finding.value } }))
    finding.value = ''
  })
const why = ref('')
const shortest = 3
const openAgain = () =>
  doing(async () => {
    put(await call(routes.openCaseAgain, { ...about(), body: { why: why.value } }))
    why.value = ''
  })
const question = ref('')
const ownerId = ref<number | null>(null)
watch(
  data,
  (opened) => {
    question.value = opened?.question ?? ''
    ownerId.value = opened?.owner.id ?? null
  },
  { immediate: true },
)
const { data: assignees } = useQuery({
  queryKey: ['assignees'],
  queryFn: () => call(routes.listAssignees),
  enabled: mayWrite,
})
const people = computed(() => (assignees.value?.people ?? []).map((one) => ({ value: one.id, label: one.name })))
const shortestQuestion = 5
const change = () =>
  doing(async () => {
    const body = { question: question.value, ownerId: ownerId.value! }
    put(await call(routes.changeCase, { ...about(), body }))
  })
const pack = computed(() => ({ path: '/evidence/making', query: { state: `c${id.value}` } }))
</script>

<template>
  <main v-if="error" class="alone"><ProblemNote :problem="problemOf(error)" /></main>
  <main v-else-if="!data" class="alone"><p class="quiet">Reading …</p></main>
  <div v-else class="both">
    <main class="left" tabindex="0">
      <header>
        <h1>
          <bdi>{{ data.question }}</bdi>
        </h1>
        <p>
          <span class="quiet">Case {{ data.id }}, {{ data.state }}, in the hands of</span> {{ data.owner.name
          }}<span class="quiet">, opened by {{ data.openedBy }}, {{ fullTime(data.openedAt) }}.</span>
        </p>
        <p class="ways">
          <RouterLink v-if="hasSaves && session.may('packs.make')" class="act" :to="pack"
            >Make a pack of it …</RouterLink
          >
          <RouterLink v-if="hasSaves" class="act" :to="{ path: '/changes', query: { state: `c${id}` } }"
            >Its saves in Changes</RouterLink
          >
          <PressPopover v-if="isOpen && mayWrite" title="Question and owner …">
            <form class="pop" @submit.prevent="change">
              <Input.TextArea
                v-model:value="question"
                aria-label="What is to be found out"
                :auto-size="{ minRows: 1, maxRows: 4 }"
                :maxlength="300"
              />
              <PickList v-model:value="ownerId" :options="people" aria-label="In whose hands" size="small" />
              <Button
                size="small"
                html-type="submit"
                :loading="busy"
                :disabled="question.trim().length < shortestQuestion || ownerId === null"
                >Change it; both are written down</Button
              >
            </form>
          </PressPopover>
        </p>
      </header>
      <p v-if="data.finding !== null" class="finding">
        <span class="quiet">Closed by {{ data.closedBy }}, {{ fullTime(data.closedAt!) }}, who found</span>
        <bdi>{{ data.finding }}</bdi>
      </p>
      <p v-if="kinds.length === 0" class="quiet">
        Nothing is gathered yet. Pick saves in <RouterLink to="/changes">Changes</RouterLink> (<kbd>x</kbd>) and gather
        them from the tray, or use <i>Gather in a case</i> where a save, a record, a correction or a pack stands open.
      </p>
      <p v-else class="quiet">
        {{ gatheredWords(data.gathered)
        }}{{ data.unanswered > 0 ? `; ${counted(data.unanswered, 'question')} without an answer` : '' }}
      </p>
      <CaseItems
        v-for="kind in kinds"
        :key="kind"
        :case-id="data.id"
        :kind="kind"
        :count="data.gathered[kind]"
        :open="isOpen && mayWrite"
        @removed="refetch()"
      />
    </main>
    <aside class="right" aria-label="What was written in it" tabindex="0">
      <h2>Written in it</h2>
      <p v-if="data.entries.length === 0" class="quiet">Nothing yet.</p>
      <div v-for="one in data.entries" :key="one.id" class="entry">
        <span class="quiet">{{ one.by }}, {{ fullTime(one.at) }}, {{ entryWords[one.kind] }}</span>
        <bdi>{{ one.text }}</bdi>
      </div>
      <ProblemNote v-if="problem" :problem="problem" />
      <template v-if="mayWrite && isOpen">
        <form @submit.prevent="write">
          <Input.TextArea
            v-model:value="text"
            aria-label="Something to write in it"
            placeholder="What was looked at, asked or thought"
            :auto-size="{ minRows: 2, maxRows: 10 }"
            :maxlength="10000"
            @keydown.enter.ctrl="write"
          />
          <Button size="small" html-type="submit" :loading="busy" :disabled="text.trim() === ''" title="Ctrl Enter"
            >Write it</Button
          >
        </form>
        <form @submit.prevent="close">
          <Input.TextArea
            v-model:value="finding"
            aria-label="What was found"
            placeholder="What was found, in words that stand by themselves"
            :auto-size="{ minRows: 2, maxRows: 10 }"
            :maxlength="10000"
          />
          <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="finding.trim() === ''"
            >Close it with this finding</Button
          >
        </form>
      </template>
      <form v-else-if="mayWrite" @submit.prevent="openAgain">
        <Input v-model:value="why" aria-label="Why it is opened again" placeholder="Why it is opened again" />
        <Button size="small" html-type="submit" :loading="busy" :disabled="why.trim().length < shortest"
          >Open it again</Button
        >
      </form>
    </aside>
  </div>
</template>

<style scoped>
.alone {
  padding: 22px 28px;
}
.both {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(480px, 5fr) minmax(320px, 3fr);
}
.left {
  padding: 16px 26px;
  overflow: auto;
}
.right {
  background: var(--panel);
  border-left: 1px solid var(--line);
  padding: 16px 22px;
  overflow: auto;
  display: flex;
  flex-direction: column;
  gap: 10px;
}
h1 {
  font-size: 19px;
  line-height: 26px;
  font-weight: 650;
  overflow-wrap: anywhere;
}
h2 {
  font-size: 14px;
  font-weight: 650;
}
.ways {
  display: flex;
  gap: 16px;
  align-items: baseline;
  margin: 6px 0 8px;
}
.finding {
  display: grid;
  border-left: 2px solid var(--moss);
  padding-left: 10px;
  margin: 8px 0;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.entry {
  display: grid;
  border-left: 2px solid var(--line);
  padding-left: 10px;
  font-size: 13px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
form {
  display: grid;
  gap: 6px;
  justify-items: start;
  border-top: 1px solid var(--line-soft);
  padding-top: 10px;
}
form > :first-child {
  justify-self: stretch;
}
.pop {
  width: 380px;
  border: 0;
  padding: 0;
}
</style>
