<script setup lang="ts">
import { routes, type Assignment, type ProblemBody, type Question } from '@spoor/contract'
import { counted, dateText } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { dayOf, shortTime } from '../value/time.ts'
import { useWaiting } from './waiting.ts'

/** What waits for the person who reads; questions to them stand on the page itself. */
const { data, error, refetch } = useWaiting()
const nothing = computed(
  () =>
    data.value &&
    [
      data.value.assigned,
      data.value.asked,
      data.value.answered,
      data.value.plans,
      data.value.erasures,
      data.value.corrections,
      data.value.sentBack,
      data.value.cases,
    ].every((list) => list.length === 0) &&
    data.value.flagged === 0,
)
const today = dayOf(new Date().toISOString())
const problem = ref<ProblemBody | null>(null)

/** Several saves are opened in the list of what waits, one in its own right. */
const opened = ({ saveIds }: Assignment | Question, state: string) => ({
  path: '/changes',
  query: { state, save: saveIds[0] ?? '' },
})

async function finish(one: Assignment) {
  try {
    await call(routes.finishAssignment, { params: { assignmentId: String(one.id) }, body: { done: true } })
    problem.value = null
    await refetch()
  } catch (caught) {
    problem.value = problemOf(caught)
  }
}
</script>

<template>
  <ProblemNote v-if="error ?? problem" :problem="problem ?? problemOf(error)" />
  <p v-if="!data && !error" class="quiet">Looking …</p>
  <p v-if="nothing" class="quiet">Nothing {{ data && data.toAnswer.length > 0 ? 'else ' : '' }}waits for you.</p>
  <ul v-if="data && !nothing">
    <li v-for="one in data.assigned" :key="`a${one.id}`">
      <span>
        <RouterLink :to="opened(one, 'assigned')"
          ><bdi>{{ one.note || `Look at ${counted(one.saveIds.length, 'save')}` }}</bdi></RouterLink
        >
        <span v-if="one.dueOn" :class="one.dueOn < today ? 'attention' : 'quiet'">
          {{ one.dueOn < today ? 'was due' : 'by' }} {{ dateText(one.dueOn) }}</span
        >
      </span>
      <span class="quiet"
        >{{ one.by }}, {{ shortTime(one.at) }} · <button class="plain act" @click="finish(one)">Done</button></span
      >
    </li>
    <li v-for="one in data.plans" :key="`p${one.source}`">
      <RouterLink to="/tracking/plans">Approve a tracking plan of {{ one.source }}</RouterLink>
      <span class="quiet">{{ one.by }}, {{ shortTime(one.at) }}</span>
    </li>
    <li v-for="one in data.erasures" :key="`e${one.id}`">
      <RouterLink to="/custody#erasures"
        >Decide an erasure by law: <bdi>{{ one.words }}</bdi></RouterLink
      >
      <span class="quiet">{{ one.by }}, {{ shortTime(one.at) }}</span>
    </li>
    <li v-for="one in data.corrections" :key="`c${one.id}`">
      <RouterLink :to="`/corrections/${one.id}`"
        >Look over correction {{ one.id }} and apply it: <bdi>{{ one.reason }}</bdi></RouterLink
      >
      <span class="quiet">{{ one.by }}, {{ shortTime(one.at) }}</span>
    </li>
    <li v-for="one in data.cases" :key="`o${one.id}`">
      <span>
        Your case:
        <RouterLink :to="`/evidence/cases/${one.id}`"
          ><bdi>{{ one.question }}</bdi></RouterLink
        >
        <span v-if="one.unanswered > 0" class="quiet">
          {{ counted(one.unanswered, 'question') }} without an answer</span
        >
      </span>
      <span class="quiet">last {{ shortTime(one.lastAt) }}</span>
    </li>
    <li v-for="one in data.sentBack" :key="`s${one.id}`">
      <span>
        <RouterLink :to="`/corrections/${one.id}`">Correction {{ one.id }} came back:</RouterLink>
        <q class="quiet"
          ><bdi>{{ one.words }}</bdi></q
        >
      </span>
      <span class="quiet">{{ one.by }}</span>
    </li>
    <li v-for="one in data.answered" :key="`d${one.id}`">
      <span>
        Answered:
        <RouterLink :to="opened(one, 'answered')"
          ><bdi>{{ one.text }}</bdi></RouterLink
        >
        <q class="quiet"
          ><bdi>{{ one.answer }}</bdi></q
        >
      </span>
      <span class="quiet">{{ one.answeredBy }}, {{ shortTime(one.answeredAt!) }}</span>
    </li>
    <li v-for="one in data.asked" :key="`k${one.id}`">
      <span>
        Not answered yet:
        <RouterLink :to="opened(one, 'asked')"
          ><bdi>{{ one.text }}</bdi></RouterLink
        >
      </span>
      <span class="quiet">{{ one.actor.name }}, {{ shortTime(one.at) }}</span>
    </li>
    <li v-if="data.flagged > 0">
      <RouterLink :to="{ path: '/changes', query: { state: 'flagged' } }"
        >Flagged, until the flag is taken off</RouterLink
      >
      <span class="quiet">{{ counted(data.flagged, 'save') }}</span>
    </li>
  </ul>
</template>

<style scoped>
li {
  padding: 6px 0;
  border-top: 1px solid var(--line-soft);
  display: flex;
  justify-content: space-between;
  gap: 4px 16px;
  font-size: 13px;
}
li > span:last-child:not(:first-child) {
  white-space: nowrap;
}
.act {
  color: var(--pine);
}
a {
  text-decoration: none;
}
a:hover {
  text-decoration: underline;
}
</style>
