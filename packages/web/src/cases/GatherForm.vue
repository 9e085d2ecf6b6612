<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type CaseThing } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PickList from '../frame/PickList.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'

/** Gathers things in an open case, or opens one with them. */
export interface Props {
  things: () => readonly CaseThing[]
}
const props = defineProps<Props>()
const emit = defineEmits<{ done: [words: string, caseId: number] }>()
const session = useSession()
const cache = useQueryClient()
const { data, error } = useQuery({
  queryKey: ['cases', 'open', 'to gather in'],
  queryFn: () => call(routes.listCases, { query: { state: 'open' } }),
})
const fresh = 0
const options = computed(() => [
  { value: fresh, label: 'A new case' },
  ...(data.value?.cases ?? []).map(({ id, question }) => ({ value: id, label: `${id}: ${question}` })),
])
const picked = ref<number | null>(null)
const caseId = computed(() => picked.value ?? data.value?.cases[0]?.id ?? fresh)
const question = ref('')
const shortest = 5
const missing = computed(() => caseId.value === fresh && question.value.trim().length < shortest)
const { busy, problem, doing } = useDoing()

const send = () =>
  doing(async () => {
    const things = [...props.things()]
    if (caseId.value === fresh) {
      const body = { question: question.value, ownerId: session.person!.id, things }
      const { id } = await call(routes.openCase, { body })
      emit('done', `Case ${id} is opened.`, id)
    } else {
      const params = { caseId: String(caseId.value) }
      const { gathered, already } = await call(routes.gatherInCase, { params, body: { things } })
      const words = gathered === 0 ? '' : `${counted(gathered, 'thing')} gathered in case ${caseId.value}.`
      const twice = already === 0 ? '' : `${counted(already, 'thing')} had been in it already.`
      emit('done', `${words} ${twice}`.trim(), caseId.value)
    }
    question.value = ''
    await Promise.all([
      cache.invalidateQueries({ queryKey: ['cases'] }),
      cache.invalidateQueries({ queryKey: ['case'] }),
    ])
  })
</script>

<template>
  <form class="gather" aria-label="Gather in a case" @submit.prevent="send">
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <PickList
      :value="caseId"
      :options="options"
      show-search
      option-filter-prop="label"
      aria-label="In which case"
      size="small"
      class="which"
      @update:value="picked = $event"
    />
    <Input
      v-if="caseId === fresh"
      v-model:value="question"
      size="small"
      aria-label="What is to be found out"
      placeholder="What is to be found out"
      :maxlength="300"
    />
    <ProblemNote v-if="problem" :problem="problem" />
    <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="missing">{{
      caseId === fresh ? 'Open it with this' : 'Gather it there'
    }}</Button>
  </form>
</template>

<style scoped>
.gather {
  display: grid;
  grid-template-columns: minmax(0, 380px);
  justify-items: stretch;
  gap: 8px;
  font-size: 13px;
}
</style>
