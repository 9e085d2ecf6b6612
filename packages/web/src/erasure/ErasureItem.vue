<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useQueryClient } from '@tanstack/vue-query'
import { routes, type Erasure, type ProblemBody } from '@spoor/contract'
import { counted } from '@spoor/core'
import { ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { shortTime } from '../value/time.ts'

/** One erasure that was asked for, with what came of it, and the ways to decide it. */
export interface Props {
  erasure: Erasure
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ decided: [] }>()
const cache = useQueryClient()
const act = ref<'erase' | 'refuse' | null>(null)
const answer = ref('')
const busy = ref(false)
const problem = ref<ProblemBody | null>(null)
const params = { erasureId: String(props.erasure.id) }

async function doing(work: () => Promise<unknown>) {
  busy.value = true
  try {
    await work()
    problem.value = null
    act.value = null
  } catch (caught) {
    problem.value = problemOf(caught)
  } finally {
    busy.value = false
  }
  await Promise.all(
    ['waiting', 'erasures', 'save', 'place'].map((queryKey) => cache.invalidateQueries({ queryKey: [queryKey] })),
  )
  emit('decided')
}
const erase = () => doing(() => call(routes.decideErasure, { params, body: { decision: 'erase' } }))
const refuse = () =>
  doing(() => call(routes.decideErasure, { params, body: { decision: 'refuse', answer: answer.value } }))
const withdraw = () => doing(() => call(routes.withdrawErasure, { params }))
const outcome = { waiting: 'Waits for a second person', erased: 'Erased', refused: 'Refused', withdrawn: 'Taken back' }
</script>

<template>
  <div class="erasure">
    <p>
      <b>{{ outcome[erasure.state] }}</b>: {{ names.fieldName(erasure.fieldId) }} of <bdi>{{ erasure.label }}</bdi>,
      <template v-if="erasure.reach === 'change'">in save {{ erasure.saveId }} only</template
      ><template v-else>in all of its trail</template>
      <span class="quiet"> ({{ counted(erasure.changes, 'change') }})</span>
      {{ ' ' }}<slot />
    </p>
    <p class="quiet">
      Asked by {{ erasure.askedBy }}, {{ shortTime(erasure.askedAt) }}: <bdi>{{ erasure.reason }}</bdi>
    </p>
    <p v-if="erasure.decidedBy && erasure.state !== 'withdrawn'" class="quiet">
      {{ erasure.state === 'erased' ? 'Erased' : 'Refused' }} by {{ erasure.decidedBy }},
      {{ shortTime(erasure.decidedAt!) }}<template v-if="erasure.answer">: </template><bdi>{{ erasure.answer }}</bdi>
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
    <div v-if="act === 'erase'" class="sure" role="group" aria-label="Erase for good">
      <p>
        {{ counted(erasure.changes, 'change') }} will lose before and after for good. Nobody can bring them back, and no
        revert can use them. That they were made, by whom and when stays, and so does the proof.
      </p>
      <span class="acts">
        <Button size="small" type="primary" danger :loading="busy" @click="erase">Erase for good</Button>
        <Button size="small" @click="act = null">Leave it</Button>
      </span>
    </div>
    <form v-else-if="act === 'refuse'" class="sure" aria-label="Refuse" @submit.prevent="refuse">
      <Input v-model:value="answer" size="small" aria-label="Why it is not erased" placeholder="Why it is not erased" />
      <span class="acts">
        <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="answer.trim().length < 10"
          >Refuse</Button
        >
        <Button size="small" @click="act = null">Leave it</Button>
      </span>
    </form>
    <p v-else-if="erasure.mayDecide || erasure.mayWithdraw" class="ways">
      <template v-if="erasure.mayDecide">
        <button class="plain act" @click="act = 'erase'">Erase …</button>
        <button class="plain act" @click="act = 'refuse'">Refuse …</button>
      </template>
      <button v-if="erasure.mayWithdraw" class="plain act" :disabled="busy" @click="withdraw">Take it back</button>
    </p>
  </div>
</template>

<style scoped>
.erasure {
  width: 100%;
  font-size: 13px;
}
.sure {
  display: grid;
  gap: 6px;
  margin-top: 5px;
  padding: 8px 12px;
  background: var(--panel);
  border-left: 3px solid var(--fail);
}
.acts,
.ways {
  display: flex;
  gap: 12px;
}
.act {
  color: var(--pine);
}
</style>
