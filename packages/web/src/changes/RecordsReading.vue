<script setup lang="ts">
import { useLocalStorage } from '@vueuse/core'
import { routes, type RecordLine } from '@spoor/contract'
import { counted, withPart, type Scope } from '@spoor/core'
import { computed } from 'vue'
import { call } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { recordLink } from '../records/link.ts'
import { shortTime } from '../value/time.ts'
import { usePages } from './saves-list.ts'

/** The records of the scope with their counts in it; one leads to its own saves. */
export interface Props {
  scope: Scope
  text: string
  version: number
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ show: [scope: Scope] }>()
const order = useLocalStorage<'latest' | 'most'>('spoor.changes.records-order', 'latest')
const {
  items: records,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<RecordLine>(
  computed(() => `${props.version} ${order.value} ${props.text}`),
  async (after, signal) => {
    const page = after ?? '0'
    const answer = await call(routes.listRecords, { query: { scope: props.text, order: order.value, page }, signal })
    return { items: answer.records, next: answer.more ? String(Number(page) + 1) : null }
  },
)
const only = ({ typeId, key }: RecordLine) =>
  withPart(props.scope, { part: 'record', exclude: false, lines: true, records: [{ typeId, key }] })
</script>

<template>
  <div class="rows">
    <ProblemNote v-if="problem && problem.code !== 'bad-scope'" :problem="problem" />
    <table>
      <thead>
        <tr>
          <th>record</th>
          <th :aria-sort="order === 'most' ? 'descending' : 'none'" class="figure">
            <button class="plain sort" :class="{ on: order === 'most' }" @click="order = 'most'">most saves</button>
          </th>
          <th class="figure">changes</th>
          <th class="figure">people and others</th>
          <th :aria-sort="order === 'latest' ? 'descending' : 'none'">
            <button class="plain sort" :class="{ on: order === 'latest' }" @click="order = 'latest'">latest</button>
          </th>
        </tr>
      </thead>
      <tbody :class="{ stale }">
        <tr v-for="record in records" :key="`${record.typeId} ${record.key}`">
          <td>
            <button class="plain name" @click="emit('show', only(record))">
              <span class="quiet">{{ names.typeTitle(record.typeId) }}</span> <bdi>{{ record.label }}</bdi>
            </button>
            <span v-if="record.deleted" class="quiet"> (deleted)</span>
            <RouterLink class="quiet story" :to="recordLink(record)">whole story</RouterLink>
          </td>
          <td class="figure">{{ counted(record.saves, 'save') }}</td>
          <td class="figure">{{ counted(record.changes, 'change') }}</td>
          <td class="figure">{{ record.actors }}</td>
          <td class="quiet">{{ shortTime(record.lastAt) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-if="loading" class="quiet state">Counting …</p>
    <slot v-else-if="!problem && records.length === 0" name="empty" />
    <button v-else-if="next !== null" class="plain more" @click="more">More records</button>
  </div>
</template>

<style scoped>
.story {
  margin-left: 10px;
  font-size: 12.5px;
}
.rows {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--panel);
}
table {
  border-collapse: collapse;
  width: 100%;
  font-size: 13px;
}
th {
  position: sticky;
  top: 0;
  background: var(--raised);
  font-weight: 400;
  color: var(--soft);
  text-align: left;
}
td,
th {
  height: 28px;
  padding: 0 18px;
  border-bottom: 1px solid var(--line-soft);
}
.figure {
  text-align: right;
}
.sort {
  color: var(--pine);
}
.sort.on {
  color: var(--ink);
  font-weight: 600;
}
.name:hover {
  text-decoration: underline;
}
.state,
.more {
  padding: 10px 18px;
}
.more {
  color: var(--pine);
}
</style>
