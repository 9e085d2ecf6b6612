<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { routes, type Save } from '@spoor/contract'
import { compareInstants, counted, scopeEntries, trailOf, type Scope, type Segment } from '@spoor/core'
import { computed } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { scopeQuery } from '../scope/query.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { labelsOf } from '../value/labels.ts'
import { dayOf, fullTime, readerZone } from '../value/time.ts'
import { recordLink } from './link.ts'
import { lengthWords } from './scale.ts'
import { holdingShown, lanesOf } from './story.ts'

/** What one field of one record held, the latest first, with who set it: it stays beside while cells are walked. */
export interface Props {
  typeId: number
  recordKey: string
  label: string
  fieldId: number
  names: NamedVocabulary
  /** The moment of the grid; null is now. */
  at: string | null
  /** From when on the grid marks changes. */
  since: string | undefined
}
const props = defineProps<Props>()
const emit = defineEmits<{ close: [] }>()

const story = useQuery({
  queryKey: ['record-story', computed(() => props.typeId), computed(() => props.recordKey), 'past'],
  queryFn: () => call(routes.readStoryOfRecord, { query: { typeId: String(props.typeId), key: props.recordKey } }),
  staleTime: 10_000,
})
const saves = computed(() => new Map(story.data.value?.saves.map((save) => [save.id, save])))
const spells = computed(() => {
  if (!story.data.value) return []
  return lanesOf(trailOf(story.data.value), [props.fieldId])[0]!.segments.toReversed()
})
const labelOf = computed(() => labelsOf(story.data.value?.references ?? []))
const shown = ({ holding }: Segment) =>
  holdingShown(holding, props.names.baseType(props.fieldId), (held) => labelOf.value(props.fieldId, held))
const doer = (save: Save) => save.actor.knownAs ?? save.actor.name
const holdsThen = ({ from, to }: Segment) =>
  props.at !== null &&
  (from === null || compareInstants(from, props.at) <= 0) &&
  (to === null || compareInstants(props.at, to) < 0)
function howLong({ from, to, holding }: Segment): string {
  if (holding.state !== 'value' || from === null) return ''
  const ms = (to === null ? Date.now() : Date.parse(to)) - Date.parse(from)
  return `held ${lengthWords(ms)}${to === null ? ' so far' : ''}`
}
function came({ by, found }: Segment): string {
  const save = by === null ? undefined : saves.value.get(by)
  if (!save) return found ? 'as found when tracking began' : ''
  const how = [doer(save), save.channel, save.run === null ? '' : `run “${save.run}”`]
  return [...how, save.reason === null ? 'no reason' : `“${save.reason}”`].filter(Boolean).join(', ')
}

/** What else happened to the field in the marked time, on any record. */
const elsewhere = computed<Scope | null>(() =>
  props.since === undefined
    ? null
    : {
        what: { part: 'what', exclude: false, types: [], fields: [props.fieldId] },
        when: {
          part: 'when',
          exclude: false,
          effective: false,
          span: {
            span: 'days',
            from: dayOf(props.since),
            to: props.at === null ? null : dayOf(props.at),
            zone: readerZone,
          },
        },
      },
)
const scopeText = computed(() => new URLSearchParams(scopeEntries(elsewhere.value ?? {})).toString())
const others = useQuery({
  queryKey: ['summary-of-field', scopeText],
  queryFn: () => call(routes.summariseChanges, { query: { scope: scopeText.value } }),
  enabled: computed(() => elsewhere.value !== null),
  staleTime: 10_000,
})
</script>

<template>
  <div class="past">
    <header>
      <p class="quiet">
        {{ names.typeTitle(typeId) }} <bdi>{{ label }}</bdi>
        <button class="plain close" aria-label="Close" @click="emit('close')">✕</button>
      </p>
      <h2>
        <bdi>{{ names.fieldName(fieldId) }}</bdi>
      </h2>
    </header>
    <ProblemNote v-if="story.error.value" :problem="problemOf(story.error.value)" />
    <p v-else-if="story.isPending.value" class="quiet state">Reading its past …</p>
    <ol v-else aria-label="What it held">
      <li
        v-for="(spell, n) in spells"
        :key="n"
        :class="{ unknown: spell.holding.state !== 'value', then: holdsThen(spell) }"
      >
        <span class="mark" :class="{ full: spell.by !== null }" aria-hidden="true" />
        <bdi class="mono value" :class="{ words: shown(spell).isWords }">{{ shown(spell).text }}</bdi>
        <span class="when">{{ spell.from === null ? 'before that' : fullTime(spell.from) }}</span>
        <span class="how quiet"
          ><ActorGlyph v-if="spell.by && saves.get(spell.by)" :kind="saves.get(spell.by)!.actor.kind" />
          {{ [came(spell), howLong(spell)].filter(Boolean).join(' · ') }}</span
        >
      </li>
    </ol>
    <p v-if="elsewhere && others.data.value" class="others">
      The same field on all records, in the marked days:
      <RouterLink :to="{ path: '/changes', query: scopeQuery(elsewhere) }">{{
        counted(others.data.value.changes, 'change')
      }}</RouterLink>.
    </p>
    <footer>
      <RouterLink class="open" :to="recordLink({ typeId, key: recordKey })">Open the record</RouterLink>
      <RouterLink :to="{ path: '/changes', query: { record: `t${typeId}:${recordKey}`, what: `f${fieldId}` } }"
        >These changes</RouterLink
      >
    </footer>
  </div>
</template>

<style scoped>
.past {
  display: flex;
  flex-direction: column;
  min-height: 0;
  height: 100%;
}
header {
  padding: 12px 18px 8px;
  border-bottom: 1px solid var(--line);
}
header p {
  display: flex;
  gap: 6px;
}
.close {
  margin-left: auto;
  color: var(--soft);
}
h2 {
  font-size: 16px;
  font-weight: 650;
}
ol {
  list-style: none;
  overflow: auto;
  min-height: 0;
}
li {
  display: grid;
  grid-template-columns: 14px minmax(0, 1fr) auto;
  gap: 2px 10px;
  padding: 8px 18px;
  border-bottom: 1px solid var(--line-soft);
  font-size: 13px;
}
.then {
  background: var(--pine-wash);
}
.unknown {
  background-image: repeating-linear-gradient(135deg, transparent 0 5px, var(--line-soft) 5px 6px);
}
.mark {
  width: 9px;
  height: 9px;
  border: 1.5px solid var(--soft);
  border-radius: 50%;
  margin-top: 6px;
}
.mark.full {
  background: var(--ink);
  border-color: var(--ink);
}
.value {
  overflow-wrap: anywhere;
  max-height: 66px;
  overflow: hidden;
}
.words {
  font-family: var(--text);
  font-style: italic;
}
.when {
  font-size: 12px;
}
.how {
  grid-column: 2 / 4;
  font-size: 12px;
}
.others {
  padding: 12px 18px;
  font-size: 13px;
}
.state {
  padding: 18px;
}
footer {
  margin-top: auto;
  display: flex;
  gap: 18px;
  padding: 12px 18px;
  border-top: 1px solid var(--line);
}
.open {
  font-weight: 650;
}
</style>
