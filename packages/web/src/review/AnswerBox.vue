<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useQueryClient } from '@tanstack/vue-query'
import { routes, type ProblemBody, type Question } from '@spoor/contract'
import { ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'

/** Answers a question, once: one's own, or what its actor said. */
export interface Props {
  question: Question
  own: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ answered: [] }>()
const cache = useQueryClient()
const text = ref('')
const busy = ref(false)
const problem = ref<ProblemBody | null>(null)

async function send() {
  if (text.value.trim() === '' || busy.value) return
  busy.value = true
  try {
    await call(routes.answerQuestion, {
      params: { questionId: String(props.question.id) },
      body: { answer: text.value },
    })
    await cache.invalidateQueries({ queryKey: ['waiting'] })
    emit('answered')
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <form class="answer" @submit.prevent="send">
    <Input.TextArea
      v-model:value="text"
      :aria-label="own ? 'Your answer' : `What ${question.actor.name} said`"
      :placeholder="own ? 'Your answer' : `What ${question.actor.name} said, and when`"
      :auto-size="{ minRows: 2, maxRows: 8 }"
      :maxlength="4000"
      @keydown.enter.ctrl="send"
    />
    <ProblemNote v-if="problem" :problem="problem" />
    <span>
      <Button
        size="small"
        type="primary"
        html-type="submit"
        :disabled="text.trim() === ''"
        :loading="busy"
        title="Ctrl Enter"
        >{{ own ? 'Answer' : 'Write it down' }}</Button
      >
      <span class="quiet once">It is kept with the change and cannot be altered.</span>
    </span>
  </form>
</template>

<style scoped>
.answer {
  display: grid;
  gap: 6px;
  margin-top: 6px;
}
.once {
  margin-left: 10px;
  font-size: 12.5px;
}
</style>
