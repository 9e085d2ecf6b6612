<script setup lang="ts">
import { useQueries } from '@tanstack/vue-query'
import { routes, type Question, type SaveDetail } from '@spoor/contract'
import { computed } from 'vue'
import { call } from '../api/client.ts'
import AnswerBox from '../review/AnswerBox.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { fullTime, shortTime } from '../value/time.ts'
import BeforeAfter from '../value/BeforeAfter.vue'

/** A question put to the person who reads, with what it is about, to be answered at once. */
export interface Props {
  question: Question
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ answered: [] }>()
const shownSaves = 3
const details = useQueries({
  queries: computed(() =>
    props.question.saveIds.slice(0, shownSaves).map((saveId) => ({
      queryKey: ['save', saveId],
      queryFn: () => call(routes.readSave, { params: { saveId } }),
    })),
  ),
})
const saves = computed(() => details.value.flatMap((one) => (one.data as SaveDetail | undefined)?.save ?? []))
const others = computed(() => props.question.saveIds.length - shownSaves)
</script>

<template>
  <article class="question" :aria-label="question.text">
    <h3>
      <bdi>{{ question.text }}</bdi>
    </h3>
    <p class="quiet">{{ question.by }} asks you, {{ shortTime(question.at) }}.</p>
    <div v-for="save in saves" :key="save.id" class="save">
      <RouterLink :to="{ path: '/changes', query: { save: save.id } }"
        >{{ names.typeTitle(save.typeId) }} <bdi>{{ save.label }}</bdi></RouterLink
      >
      <span class="quiet">{{ fullTime(save.at) }}</span>
      <span v-for="change in save.changes" :key="change.fieldId" class="change">
        <span class="quiet">{{ names.fieldName(change.fieldId) }}</span>
        <BeforeAfter :change="change" :action="save.action" :base-type="names.baseType(change.fieldId)" />
      </span>
    </div>
    <p v-if="others > 0" class="quiet">and {{ others }} more of your saves</p>
    <AnswerBox :question="question" own @answered="emit('answered')" />
  </article>
</template>

<style scoped>
.question {
  background: var(--panel);
  border-left: 3px solid var(--pine);
  padding: 10px 16px 12px;
  margin: 10px 0;
  display: grid;
  gap: 3px;
  font-size: 13px;
  overflow-wrap: anywhere;
}
h3 {
  font-size: 15.5px;
  line-height: 20px;
  font-weight: 650;
}
.save {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
}
.save a {
  text-decoration: none;
}
.change {
  flex-basis: 100%;
  display: flex;
  flex-wrap: wrap;
  gap: 2px 10px;
}
</style>
