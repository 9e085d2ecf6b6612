<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import DatePicker from 'ant-design-vue/es/date-picker'
import Input from 'ant-design-vue/es/input'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type ProblemBody } from '@spoor/contract'
import { counted, listed } from '@spoor/core'
import dayjs, { type Dayjs } from 'dayjs'
import { computed, onMounted, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import PickList from '../frame/PickList.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'

/** A note, an assignment or a question for one save or for many at once. */
export interface Props {
  act: 'note' | 'assign' | 'ask'
  /** The saves it is for, fetched when it is sent. */
  saves: () => Promise<readonly string[]>
  /** Who would be asked, where it is known. */
  whom?: string
}
const props = defineProps<Props>()
const emit = defineEmits<{ done: [words: string]; close: [] }>()
const session = useSession()
const cache = useQueryClient()
const text = ref('')
const to = ref<number | null>(session.person?.id ?? null)
const due = ref<Dayjs | undefined>()
const busy = ref(false)
const problem = ref<ProblemBody | null>(null)
const form = ref<HTMLFormElement | null>(null)
onMounted(() => form.value?.querySelector('textarea')?.focus())

const { data: assignees } = useQuery({
  queryKey: ['assignees'],
  queryFn: () => call(routes.listAssignees),
  enabled: computed(() => props.act === 'assign'),
})
const people = computed(() =>
  (assignees.value?.people ?? []).map(({ id, name }) => ({
    value: id,
    label: id === session.person?.id ? `${name} (you)` : name,
  })),
)
const words = computed(() => {
  if (props.act === 'note') return { title: 'A note', label: 'Note', send: 'Write the note' }
  if (props.act === 'assign') return { title: 'To be dealt with by', label: 'What is to be done', send: 'Assign' }
  return { title: `A question to ${props.whom ?? 'whoever made it'}`, label: 'Question', send: 'Ask' }
})
const ready = computed(() => (props.act === 'assign' ? to.value !== null : text.value.trim() !== ''))

async function send() {
  if (!ready.value || busy.value) return
  busy.value = true
  try {
    emit('done', await sent([...(await props.saves())]))
    await cache.invalidateQueries({ queryKey: ['waiting'] })
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}

async function sent(saveIds: string[]): Promise<string> {
  if (props.act === 'note') {
    await call(routes.addNote, { body: { saveIds, text: text.value } })
    return `Noted on ${counted(saveIds.length, 'save')}.`
  }
  if (props.act === 'assign') {
    const dueOn = due.value ? dayjs(due.value).format('YYYY-MM-DD') : null
    const made = await call(routes.assignSaves, { body: { saveIds, to: to.value!, dueOn, note: text.value } })
    return `Assigned to ${made.to.name}.`
  }
  const { questions } = await call(routes.askActors, { body: { saveIds, text: text.value } })
  const deaf = questions.filter((question) => !question.reachable).map((question) => question.actor.name)
  const asked = `Asked ${listed(questions.map((question) => question.actor.name))}.`
  return deaf.length === 0
    ? asked
    : `${asked} ${listed(deaf)} cannot sign in to Spoor: ask them yourself, and write down what they say with the save.`
}
</script>

<template>
  <form ref="form" class="form" :aria-label="words.title" @submit.prevent="send" @keydown.esc.stop="emit('close')">
    <b>{{ words.title }}</b>
    <template v-if="act === 'assign'">
      <PickList v-model:value="to" :options="people" aria-label="Who" size="small" />
      <label class="due"
        >by
        <DatePicker v-model:value="due as never" size="small" format="D MMM YYYY" placeholder="no day" aria-label="Due"
      /></label>
    </template>
    <Input.TextArea
      v-model:value="text"
      :aria-label="words.label"
      :placeholder="words.label"
      :auto-size="{ minRows: 2, maxRows: 6 }"
      :maxlength="4000"
      @keydown.enter.ctrl="send"
    />
    <ProblemNote v-if="problem" :problem="problem" />
    <span class="acts">
      <Button size="small" type="primary" html-type="submit" :disabled="!ready" :loading="busy" title="Ctrl Enter">{{
        words.send
      }}</Button>
      <Button size="small" @click="emit('close')">Leave it</Button>
    </span>
  </form>
</template>

<style scoped>
.form {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 10px;
  align-items: center;
  font-size: 13px;
}
.form > :deep(textarea) {
  flex-basis: 100%;
}
.due {
  display: flex;
  gap: 6px;
  align-items: center;
}
.acts {
  flex-basis: 100%;
  display: flex;
  gap: 8px;
}
</style>
