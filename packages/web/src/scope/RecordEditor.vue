<script setup lang="ts">
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { routes } from '@spoor/contract'
import type { RecordPart, RecordRef } from '@spoor/core'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: RecordPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: RecordPart] }>()

const part = computed<RecordPart>(() => props.part ?? { part: 'record', exclude: false, lines: true, records: [] })
const words = ref('')
const settled = refDebounced(words, 200)
const { data, isFetching } = useQuery({
  queryKey: ['records', settled],
  queryFn: () => call(routes.findRecords, { query: { words: settled.value.trim() } }),
  enabled: () => settled.value.trim() !== '',
})
const hits = computed(() => (settled.value.trim() === '' ? [] : (data.value?.records ?? [])))
const same = (a: RecordRef) => (b: RecordRef) => a.typeId === b.typeId && a.key === b.key
const chosen = (ref: RecordRef) => part.value.records.some(same(ref))

function toggle({ typeId, key }: RecordRef) {
  const record = { typeId, key }
  const records = chosen(record)
    ? part.value.records.filter((one) => !same(record)(one))
    : [...part.value.records, record]
  emit('put', { ...part.value, records })
}
</script>

<template>
  <Input
    v-model:value="words"
    placeholder="Find a record by its name or number"
    aria-label="Find a record"
    size="small"
    autofocus
  />
  <Checkbox
    class="lines"
    :checked="part.lines"
    :disabled="part.records.length === 0"
    @change="emit('put', { ...part, lines: !part.lines })"
    >with their lines</Checkbox
  >
  <ul>
    <li v-for="record in part.records" :key="`${record.typeId}${record.key}`">
      <Checkbox checked @change="toggle(record)">{{
        names.record(record) ?? `${names.typeTitle(record.typeId)} ${record.key}`
      }}</Checkbox>
    </li>
    <template v-for="hit in hits" :key="`${hit.typeId}${hit.key}`">
      <li v-if="!chosen(hit)">
        <Checkbox :checked="false" @change="toggle(hit)">
          <span class="quiet">{{ names.typeTitle(hit.typeId) }}</span> {{ hit.label }}
          <span v-if="hit.deleted" class="quiet">(deleted)</span>
        </Checkbox>
      </li>
    </template>
    <li v-if="settled.trim() !== '' && hits.length === 0 && !isFetching" class="quiet">
      No record with a change has this in its name or number.
    </li>
  </ul>
</template>

<style scoped>
.lines {
  margin-top: 8px;
}
ul {
  max-height: 260px;
  overflow: auto;
  margin-top: 8px;
}
</style>
