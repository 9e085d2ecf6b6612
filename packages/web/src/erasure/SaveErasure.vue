<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import Radio from 'ant-design-vue/es/radio'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type ProblemBody, type Save } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, defineAsyncComponent, ref, toRef, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import ErasureItem from './ErasureItem.vue'

const PickList = defineAsyncComponent(() => import('../frame/PickList.vue'))

/** Of an opened save: what was erased of it or is to be, and the way to ask for that. */
export interface Props {
  save: Save
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ erased: [] }>()
const session = useSession()
const cache = useQueryClient()
const saveId = computed(() => props.save.id)
const { data, error, refetch } = useQuery({
  queryKey: ['erasures', saveId],
  queryFn: () => call(routes.listErasures, { query: { save: saveId.value } }),
})
const fields = computed(() =>
  props.save.changes
    .filter((change) => !change.erased)
    .map(({ fieldId }) => ({ value: fieldId, label: props.names.fieldName(fieldId) })),
)

const asking = ref(false)
const fieldId = ref<number | null>(null)
const reach = ref<'change' | 'record'>('record')
const reason = ref('')
const busy = ref(false)
const problem = ref<ProblemBody | null>(null)
watch(
  toRef(() => props.save.id),
  close,
)
const { data: reached } = useQuery({
  queryKey: ['erasure-reach', saveId, fieldId],
  queryFn: () => call(routes.erasureReach, { query: { save: saveId.value, field: String(fieldId.value) } }),
  enabled: computed(() => asking.value && fieldId.value !== null),
})
function begin() {
  fieldId.value = fields.value[0]?.value ?? null
  asking.value = true
}
function close() {
  asking.value = false
  reason.value = ''
  problem.value = null
}
async function ask() {
  if (fieldId.value === null || busy.value) return
  busy.value = true
  try {
    await call(routes.askErasure, {
      body: { saveId: saveId.value, fieldId: fieldId.value, reach: reach.value, reason: reason.value },
    })
    close()
    await Promise.all([refetch(), cache.invalidateQueries({ queryKey: ['waiting'] })])
  } catch (caught) {
    problem.value = problemOf(caught)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <section
    v-if="error || (data && data.erasures.length > 0) || (session.may('erasure.ask') && fields.length > 0)"
    class="erasing"
    aria-label="Erasing"
  >
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <ErasureItem v-for="one in data?.erasures" :key="one.id" :erasure="one" :names="names" @decided="emit('erased')" />
    <template v-if="session.may('erasure.ask') && fields.length > 0">
      <form v-if="asking" class="form" aria-label="Ask to erase values" @submit.prevent="ask" @keydown.esc.stop="close">
        <b>Erase values by law</b>
        <PickList v-model:value="fieldId" :options="fields" aria-label="Which field" size="small" />
        <Radio.Group v-model:value="reach" aria-label="How far">
          <Radio value="record"
            >Every change of it in this record<span v-if="reached" class="quiet">
              ({{ counted(reached.record, 'change') }})</span
            ></Radio
          >
          <Radio value="change">This change only</Radio>
        </Radio.Group>
        <p class="quiet">
          Before and after are taken out for good; who changed it and when stay, and the save still proves. A value also
          stands before the next change and after the last one, so this change alone seldom is enough. The record’s name
          and key, the business database, files taken out and backups are not touched.
        </p>
        <Input.TextArea
          v-model:value="reason"
          aria-label="What obliges you to erase it"
          placeholder="What obliges you to erase it"
          :auto-size="{ minRows: 2, maxRows: 5 }"
          :maxlength="2000"
        />
        <ProblemNote v-if="problem" :problem="problem" />
        <span class="acts">
          <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="reason.trim().length < 10"
            >Ask for it</Button
          >
          <Button size="small" @click="close">Leave it</Button>
          <span class="quiet">A second person decides.</span>
        </span>
      </form>
      <button v-else class="plain act" @click="begin">Erase values by law …</button>
    </template>
  </section>
</template>

<style scoped>
.erasing {
  padding: 9px 18px;
  border-top: 1px solid var(--line-soft);
  font-size: 13px;
  display: grid;
  gap: 8px;
  justify-items: start;
}
.form {
  display: grid;
  gap: 7px;
  width: 100%;
}
.acts {
  display: flex;
  gap: 10px;
  align-items: baseline;
}
.act {
  color: var(--pine);
}
</style>
