<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import Input from 'ant-design-vue/es/input'
import { routes } from '@spoor/contract'
import { counted, scopeEntries, type Scope } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { metWords } from '../find/options.ts'
import NothingTracked from '../frame/NothingTracked.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { readerZone, shortTime } from '../value/time.ts'
import { useCameFrom } from './came-from.ts'
import { recordLink } from './link.ts'

const names = useVocabulary(ref({}))
/** Of all time the latest would have to be looked for among every save. */
const lastDays: Scope = {
  when: { part: 'when', exclude: false, effective: false, span: { span: 'last', days: 14, zone: readerZone } },
}
const text = (scope: Scope) => new URLSearchParams(scopeEntries(scope)).toString()
const session = useSession()
/** What records hold comes from saves of anybody: whoever sees a part is not told. */
const types = computed(() =>
  names.value.types.filter(
    (type) => session.seesAll && names.value.fields.some((field) => field.typeId === type.id && field.tracked),
  ),
)
const cameFrom = useCameFrom()
const words = ref('')
const asked = refDebounced(words, 200)
const wanted = computed(() => asked.value.trim())
const found = useQuery({
  queryKey: ['find-records', wanted],
  queryFn: () => call(routes.findRecords, { query: { words: wanted.value } }),
  enabled: computed(() => wanted.value !== ''),
})
const lately = useQuery({
  queryKey: ['records-lately'],
  queryFn: () => call(routes.listRecords, { query: { scope: text(lastDays), order: 'latest', page: '0' } }),
})
const error = computed(() => (wanted.value === '' ? lately.error.value : found.error.value))
</script>

<template>
  <main>
    <h1>Records</h1>
    <p class="quiet">The whole story of one record: what it held at any moment, who set it, and how long it stayed.</p>
    <NothingTracked belongs="Here every tracked record is found, as it stands and as it stood." />
    <Input
      v-model:value="words"
      class="find"
      autofocus
      allow-clear
      aria-label="Find a record by its name or number"
      placeholder="Find a record by its name, number, a value or a former key"
    />
    <nav v-if="types.length > 0" class="types" aria-label="Records of a type">
      <span class="quiet">As they stand now:</span>
      <RouterLink
        v-for="type in types"
        :key="type.id"
        :to="{ name: 'standing', params: { typeId: String(type.id) } }"
        >{{ type.plural }}</RouterLink
      >
      <span class="space" />
      <RouterLink v-if="session.may('custody.read')" :to="{ name: 'reconciling' }">Against their trail</RouterLink>
      <RouterLink v-if="session.may('baselines.read')" :to="{ name: 'baselines' }">Baselines</RouterLink>
    </nav>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <template v-else-if="wanted === ''">
      <h2>Changed in the last two weeks</h2>
      <p v-if="lately.isPending.value" class="quiet">Reading …</p>
      <p v-else-if="lately.data.value?.records.length === 0">
        No tracked record was changed in the last two weeks. Older ones are found by name.
      </p>
      <ul v-else @click.capture="cameFrom.from(lately.data.value?.records ?? [])">
        <li v-for="record in lately.data.value?.records.slice(0, 30)" :key="`${record.typeId} ${record.key}`">
          <RouterLink :to="recordLink(record)"
            ><span class="quiet">{{ names.typeTitle(record.typeId) }}</span> <bdi>{{ record.label }}</bdi></RouterLink
          >
          <span class="quiet">{{ record.deleted ? 'deleted' : '' }}</span>
          <span class="quiet">{{ counted(record.saves, 'save') }}</span>
          <span class="quiet">{{ shortTime(record.lastAt) }}</span>
        </li>
      </ul>
    </template>
    <template v-else>
      <h2>Found</h2>
      <p v-if="found.isPending.value" class="quiet">Looking …</p>
      <p v-else-if="found.data.value?.records.length === 0">
        No record on the trail is called so, has or had such a key, or holds or held exactly that.
      </p>
      <ul v-else @click.capture="cameFrom.from(found.data.value?.records ?? [])">
        <li v-for="record in found.data.value?.records" :key="`${record.typeId} ${record.key}`">
          <RouterLink :to="recordLink(record)"
            ><span class="quiet">{{ names.typeTitle(record.typeId) }}</span> <bdi>{{ record.label }}</bdi></RouterLink
          >
          <span class="quiet met">{{ metWords(record, names) }}</span>
        </li>
      </ul>
    </template>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped>
h2 {
  font-size: 14px;
  font-weight: 650;
  margin: 18px 0 6px;
}
.types {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin-top: 14px;
}
.space {
  flex: 1;
}
.find {
  max-width: 560px;
  margin-top: 14px;
}
li {
  display: grid;
  grid-template-columns: minmax(0, 560px) 80px 90px 1fr;
  gap: 12px;
  padding: 5px 0;
  border-bottom: 1px solid var(--line-soft);
}
li .met {
  grid-column: 2 / -1;
}
li a {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
