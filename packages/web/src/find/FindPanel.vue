<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { routes } from '@spoor/contract'
import { readWords, sentence, sentenceText } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { readerZone } from '../value/time.ts'
import { findOptions, recentOptions, type FindOption } from './options.ts'
import { useRecent } from './recent.ts'

/** What typed words may mean: a record, a save, somebody, a field, a scope. Each leads somewhere; the surest is first. */
export interface Props {
  text: string
}
const props = defineProps<Props>()
const emit = defineEmits<{ done: []; close: [] }>()
const route = useRoute()
const router = useRouter()
const session = useSession()
const names = useVocabulary(ref({}))
const recent = useRecent(() => session.person?.id)

const words = computed(() => props.text.trim())
const settled = refDebounced(words, 120)
const found = useQuery({
  queryKey: ['find-records', settled],
  queryFn: ({ signal }) => call(routes.findRecords, { query: { words: settled.value.slice(0, 200) }, signal }),
  enabled: () => settled.value !== '',
  staleTime: 5000,
})
/** Whether records are still being looked for. */
const looking = computed(() => words.value !== '' && (settled.value !== words.value || found.isFetching.value))
const reading = computed(() => readWords(props.text, names.value, { nowMs: Date.now(), zone: readerZone }))
const options = computed<FindOption[]>(() => {
  if (words.value === '') return recentOptions(recent.list(), names.value)
  const records = settled.value === words.value ? (found.data.value?.records ?? []) : []
  return findOptions(words.value, names.value, {
    records: records.slice(0, 8),
    reading: reading.value,
    seesAll: session.seesAll,
  })
})
const sentenceShown = computed(() => sentenceText(sentence(reading.value.scope, names.value)))
const unclear = computed(() =>
  reading.value.pieces.filter((piece) => piece.state === 'unknown' || piece.state === 'ambiguous'),
)
/** Of words that are no scope it is not said that they are none. */
const isScope = computed(() => Object.keys(reading.value.scope).length > 0)
/** The typed text cut into what was understood, what was not, and what lies between. */
const stretches = computed(() => {
  const list: { text: string; state: string; title: string }[] = []
  let at = 0
  for (const piece of reading.value.pieces) {
    if (piece.from > at) list.push({ text: props.text.slice(at, piece.from), state: '', title: '' })
    list.push({ text: props.text.slice(piece.from, piece.to), state: piece.state, title: piece.meaning.join(' or ') })
    at = piece.to
  }
  if (at < props.text.length) list.push({ text: props.text.slice(at), state: '', title: '' })
  return list
})

const active = ref(0)
watch(words, () => (active.value = 0))
const waiting = ref(false)
async function take(option: FindOption | undefined) {
  if (!option) return
  const here = route.path === '/changes' && option.as === 'Changes'
  const { reading: shown, runs } = route.query
  const kept = here ? { ...(shown ? { reading: shown } : {}), ...(runs ? { runs } : {}) } : {}
  const to = option.to as { query?: object }
  await router.push({ ...to, query: { ...kept, ...to.query } } as never)
  // What was not understood stays on the screen until it is mended or let go.
  if (option.as === 'Changes' && unclear.value.length > 0) return
  emit('done')
}
/** The record that is meant may be on its way. */
function enter() {
  if (looking.value) waiting.value = true
  else void take(options.value[active.value])
}
watch(looking, (now) => {
  if (now || !waiting.value) return
  waiting.value = false
  void take(options.value[active.value])
})
function step(by: -1 | 1) {
  active.value = Math.min(Math.max(0, active.value + by), Math.max(0, options.value.length - 1))
}
defineExpose({
  enter,
  step,
  listed: computed(() => options.value.length > 0),
  active: computed(() => `find-${active.value}`),
})
</script>

<template>
  <div class="panel" @mousedown.prevent>
    <div v-if="isScope" class="meaning" role="status">
      <p>
        <span v-for="(one, at) in stretches" :key="at" :class="one.state" :title="one.title">{{ one.text }}</span>
        <button class="plain quiet close" @click="emit('close')">Close</button>
      </p>
      <p v-for="piece in unclear" :key="piece.from" class="attention">
        “{{ text.slice(piece.from, piece.to) }}”
        <template v-if="piece.state === 'ambiguous'"
          >could be {{ piece.meaning.slice(0, 6).join(' or ') }}; say which.</template
        ><template v-else>is no name, date or condition that is known here, and narrows nothing.</template>
      </p>
    </div>
    <ul v-if="options.length > 0" id="find-options" role="listbox" aria-label="What that may mean">
      <li
        v-for="(option, at) in options"
        :id="`find-${at}`"
        :key="at"
        role="option"
        :aria-selected="at === active"
        :class="{ on: at === active }"
        @mousemove="active = at"
        @click="take(option)"
      >
        <span class="as">{{ option.as }}</span>
        <bdi v-if="option.as === 'Changes'">{{ sentenceShown }}</bdi>
        <bdi v-else>{{ option.title }}</bdi>
        <bdi class="quiet note">{{ option.note }}</bdi>
      </li>
    </ul>
    <p v-if="found.error.value" class="attention">{{ problemOf(found.error.value).detail }}</p>
    <p v-else-if="looking" class="quiet" role="status">Looking for records …</p>
    <p v-else-if="words === '' && options.length === 0" class="quiet">
      A record by its name, number, a value it holds or held, or a former key; a person; a field; the number of a save;
      or changes in plain words: <i>rent of tenancies by anyone but imports, last week</i>
    </p>
    <p v-else-if="options.length === 0" class="quiet">
      Nothing is called so, and no record that you may see holds exactly that. What was never tracked is not on the
      trail.
    </p>
  </div>
</template>

<style scoped>
.panel {
  position: absolute;
  right: 0;
  top: 38px;
  width: 640px;
  max-width: 90vw;
  max-height: 70vh;
  overflow: auto;
  z-index: 30;
  padding: 8px 0;
  background: var(--panel);
  color: var(--ink);
  border: 1px solid var(--line);
  box-shadow: 0 8px 24px rgb(0 0 0 / 18%);
  font-size: 13px;
}
.panel > p,
.meaning {
  padding: 4px 14px;
}
.meaning {
  border-bottom: 1px solid var(--line-soft);
  margin-bottom: 4px;
}
.meaning p {
  display: block;
}
.close {
  float: right;
}
ul {
  list-style: none;
  margin: 0;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 110px minmax(0, 1fr) auto;
  gap: 10px;
  padding: 5px 14px;
  cursor: pointer;
}
li > bdi {
  overflow: hidden;
  text-overflow: ellipsis;
}
li.on {
  background: var(--pine-wash);
}
.as {
  color: var(--soft);
}
.note {
  max-width: 220px;
  white-space: nowrap;
}
.understood {
  border-bottom: 1.5px dotted var(--pine);
  color: var(--pine);
}
.guessed {
  border-bottom: 1.5px dashed var(--pine);
  color: var(--pine);
}
.unknown,
.ambiguous {
  text-decoration: underline wavy var(--plum);
  text-underline-offset: 3px;
  color: var(--plum);
}
</style>
