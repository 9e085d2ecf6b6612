<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes, type ProblemBody } from '@spoor/contract'
import { dateText } from '@spoor/core'
import { computed, defineAsyncComponent, ref, toRef } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { shortTime } from '../value/time.ts'
import GatherInCase from '../cases/GatherInCase.vue'
import AnswerBox from './AnswerBox.vue'

const ReviewForm = defineAsyncComponent(() => import('./ReviewForm.vue'))

/** What people said of one save, and the ways to say more. */
export interface Props {
  saveId: string
  whom: string
}
const props = defineProps<Props>()
const emit = defineEmits<{ said: [] }>()
const session = useSession()
const { data, error, refetch } = useQuery({
  queryKey: ['review', toRef(props, 'saveId')],
  queryFn: () => call(routes.readReview, { params: { saveId: props.saveId } }),
})
const act = ref<'note' | 'assign' | 'ask' | null>(null)
const writing = ref<number | null>(null)
const said = ref('')
const problem = ref<ProblemBody | null>(null)
const acts = [
  { act: 'note', title: 'Write a note' },
  { act: 'assign', title: 'Assign it' },
  { act: 'ask', title: 'Ask who made it' },
] as const
/** Saves to whom more was said than to this one alone. */
const others = (saveIds: readonly string[]) => (saveIds.length > 1 ? `, with ${saveIds.length - 1} other saves` : '')
const marks = computed(() => data.value?.marks ?? [])

async function done(words: string) {
  act.value = null
  writing.value = null
  said.value = words
  await refetch()
  emit('said')
}
async function finish(assignmentId: number, isDone: boolean) {
  try {
    await call(routes.finishAssignment, { params: { assignmentId: String(assignmentId) }, body: { done: isDone } })
    problem.value = null
    await done('')
  } catch (caught) {
    problem.value = problemOf(caught)
  }
}
</script>

<template>
  <section class="review" aria-label="What was said of it">
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <template v-if="data">
      <p v-for="mark in marks" :key="mark.mark" class="quiet">
        {{ mark.mark === 'flagged' ? 'Flagged' : 'Reviewed' }} by {{ mark.by }}, {{ shortTime(mark.at) }}.
      </p>
      <div v-for="note in data.notes" :key="`n${note.id}`" class="said">
        <bdi class="text">{{ note.text }}</bdi>
        <span class="quiet">note by {{ note.by }}, {{ shortTime(note.at) }}</span>
        <span
          ><GatherInCase v-if="session.may('cases.write')" :thing="{ kind: 'note', noteId: String(note.id) }"
        /></span>
      </div>
      <div v-for="one in data.assignments" :key="`a${one.id}`" class="said">
        <span
          ><b>{{ one.to.name }}</b> is to deal with it{{ one.dueOn ? ` by ${dateText(one.dueOn)}` : ''
          }}{{ others(one.saveIds) }}<template v-if="one.note">: </template><bdi class="text">{{ one.note }}</bdi></span
        >
        <span class="quiet">
          assigned by {{ one.by }}, {{ shortTime(one.at)
          }}<template v-if="one.doneAt"> · done {{ shortTime(one.doneAt) }}, said {{ one.doneBy }}</template>
          <button v-if="session.may('review.write')" class="plain act" @click="finish(one.id, one.doneAt === null)">
            {{ one.doneAt === null ? 'It is done' : 'Not done after all' }}
          </button>
        </span>
      </div>
      <div v-for="one in data.questions" :key="`q${one.id}`" class="said">
        <bdi class="text">{{ one.text }}</bdi>
        <span class="quiet"
          >asked of {{ one.actor.name }} by {{ one.by }}, {{ shortTime(one.at) }}{{ others(one.saveIds) }}</span
        >
        <blockquote v-if="one.answer !== null">
          <bdi class="text">{{ one.answer }}</bdi>
          <span class="quiet">
            {{ one.answeredBy === one.actor.name ? 'answered' : `written down by ${one.answeredBy}` }},
            {{ shortTime(one.answeredAt!) }}</span
          >
        </blockquote>
        <AnswerBox v-else-if="writing === one.id" :question="one" :own="false" @answered="done('')" />
        <span v-else class="quiet"
          >not answered yet
          <button v-if="session.may('review.write')" class="plain act" @click="writing = one.id">
            Write down what they said
          </button></span
        >
        <span
          ><GatherInCase v-if="session.may('cases.write')" :thing="{ kind: 'question', questionId: one.id }"
        /></span>
      </div>
      <ProblemNote v-if="problem" :problem="problem" />
      <p v-if="said" role="status">{{ said }}</p>
      <ReviewForm
        v-if="act"
        :key="act"
        :act="act"
        :saves="async () => [saveId]"
        :whom="whom"
        @done="done"
        @close="act = null"
      />
      <p v-else-if="session.may('review.write')" class="ways">
        <button v-for="way in acts" :key="way.act" class="plain act" @click="act = way.act">{{ way.title }}</button>
        <GatherInCase v-if="session.may('cases.write')" :thing="{ kind: 'save', saveId }" />
      </p>
    </template>
  </section>
</template>

<style scoped>
.review {
  padding: 9px 18px;
  border-top: 1px solid var(--line-soft);
  display: grid;
  gap: 7px;
  font-size: 13px;
}
.said {
  display: grid;
  border-left: 2px solid var(--line);
  padding-left: 10px;
}
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
blockquote {
  margin: 4px 0 0;
  padding-left: 10px;
  border-left: 2px solid var(--moss);
  display: grid;
}
.act {
  color: var(--pine);
}
.ways {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 6px 16px;
}
</style>
