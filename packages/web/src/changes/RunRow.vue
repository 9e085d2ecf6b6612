<script setup lang="ts">
import type { Held, RunLine, Save } from '@spoor/contract'
import { capitalised, counted, listed } from '@spoor/core'
import { computed } from 'vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { saver } from '../value/done-by.ts'
import type { LabelOf } from '../value/labels.ts'
import { fullTime, timeText } from '../value/time.ts'
import ValueText from '../value/ValueText.vue'
import type { SaveColumn } from './columns.ts'

/** The saves of one run in one line, with what they have in common. */
export interface Props {
  line: RunLine
  /** The newest of them. */
  save: Save
  names: NamedVocabulary
  columns: readonly { id: SaveColumn }[]
  labelOf: LabelOf
  opened: boolean
  picked: boolean | 'some'
  /** How many were read so far, while all are. */
  reading: number | null
  /** Whether it can be asked for alone, within what is asked. */
  alone: boolean
  mayRevert: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ toggle: []; pick: []; stop: []; alone: []; revert: [] }>()
const saves = computed(() => `${props.line.about ? 'more than ' : ''}${counted(props.line.saves, 'save')}`)
const records = computed(() => {
  const [first, ...others] = props.line.types
  if (!first) return saves.value
  const { name, plural } = props.names.types.find((type) => type.id === first.typeId) ?? {
    name: 'record',
    plural: 'records',
  }
  const more = others.reduce((sum, { records: of }) => sum + of, 0)
  const words = counted(first.records, name, plural)
  return `${props.line.about ? 'more than ' : ''}${words}${more > 0 ? ` and ${counted(more, 'more record')}` : ''}`
})
const spell = computed(() => {
  const [from, to] = [timeText(props.line.from), timeText(props.line.to)]
  return props.line.from.slice(0, 10) === props.line.to.slice(0, 10) && from === to
    ? fullTime(props.line.to)
    : `${fullTime(props.line.from)} to ${fullTime(props.line.to)}`
})
const acts = { create: 'created', change: '', delete: 'deleted' } as const
const done = computed(() =>
  listed([...new Set(props.line.actions.map((action) => acts[action]))].map((word) => word || 'changed')),
)
const fieldIds = computed(() => new Set(props.line.fields.map(({ fieldId }) => fieldId)))
const fields = computed(() =>
  props.line.fields.filter(({ fieldId }) => props.names.causeAmong(fieldId, fieldIds.value) === undefined),
)
const followed = computed(() => props.line.fields.length - fields.value.length)
const shownFields = 4

/** How a side is shown: a value as any other, a span by its ends, what differs by a word. */
function held(side: Held): { value: string | null; masked: boolean } | string {
  switch (side.held) {
    case 'one':
      return { value: side.value, masked: false }
    case 'masked':
      return { value: null, masked: true }
    case 'span':
      return `${side.least} – ${side.most}`
    case 'various':
      return 'various'
  }
}
const sides = (field: RunLine['fields'][number]) =>
  (['before', 'after'] as const)
    .filter((side) =>
      side === 'before' ? props.line.actions.join() !== 'create' : props.line.actions.join() !== 'delete',
    )
    .map((side) => ({ side, shown: held(field[side]) }))
</script>

<template>
  <div class="row run" role="row" @click="emit('toggle')">
    <span role="gridcell">
      <input
        type="checkbox"
        :checked="picked === true"
        :indeterminate="picked === 'some'"
        :aria-label="`Pick all ${saves} of this run into the tray`"
        tabindex="-1"
        @click.stop
        @change="emit('pick')"
      />
    </span>
    <template v-for="{ id } in columns" :key="id">
      <span v-if="id === 'time'" class="mono" role="gridcell" :title="spell">{{ timeText(line.to) }}</span>
      <span v-else-if="id === 'who'" class="who" role="gridcell"
        ><template v-if="line.oneActor"
          ><ActorGlyph :kind="save.actor.kind" />{{ saver(save)
          }}<i v-if="save.actor.claimed" class="attention"> claimed</i></template
        ><template v-else>several</template></span
      >
      <span v-else-if="id === 'record'" class="record" role="gridcell" :title="`${saves}, ${spell}`"
        ><button
          class="plain turn"
          :class="{ opened }"
          tabindex="-1"
          :aria-expanded="opened"
          :aria-label="`The ${saves} of this run`"
          @click.stop="emit('toggle')"
        >
          ›
        </button>
        <b>{{ records }}</b>, one run</span
      >
      <span v-else-if="id === 'values'" class="values" role="gridcell">
        <span v-if="reading !== null" class="attention change"
          >reading all {{ saves }}: {{ counted(reading, 'save') }} so far
          <button class="plain stop" @click.stop="emit('stop')">Stop</button></span
        >
        <b v-if="line.declared" class="change"
          ><bdi>{{ capitalised(line.declared) }}</bdi></b
        >
        <b v-if="done !== 'changed'" class="change">{{ done }}</b>
        <span v-for="field in fields.slice(0, shownFields)" :key="field.fieldId" class="change">
          <span class="field">{{ names.fieldName(field.fieldId) }}</span>
          <template v-for="{ side, shown } in sides(field)" :key="side">
            <ValueText
              v-if="typeof shown === 'string'"
              :value="shown"
              base-type="text"
              :side="side"
              :class="{ words: shown === 'various' }"
            />
            <ValueText
              v-else
              :value="shown.value"
              :base-type="names.baseType(field.fieldId)"
              :side="side"
              :masked="shown.masked"
              :label="labelOf(field.fieldId, shown.value)"
            />
          </template>
        </span>
        <span v-if="fields.length > shownFields" class="quiet change"
          >and {{ counted(fields.length - shownFields, 'more field') }}</span
        >
        <span v-if="followed > 0" class="quiet">{{ followed }} followed</span>
      </span>
      <span v-else-if="id === 'channel'" class="quiet" role="gridcell">{{
        line.oneChannel ? save.channel : 'several ways'
      }}</span>
      <span v-else-if="id === 'reason'" class="quiet" role="gridcell">{{
        line.oneReason ? (save.reason ?? '') : 'several reasons'
      }}</span>
      <span v-else class="quiet" role="gridcell">{{ saves }}</span>
    </template>
  </div>
</template>

<style scoped src="./save-row.css"></style>
<style scoped>
.turn {
  display: inline-block;
  width: 10px;
  margin-right: 4px;
  padding: 0;
  color: var(--pine);
  font-weight: 700;
}
.turn.opened {
  transform: rotate(90deg);
}
.stop {
  color: var(--pine);
  text-decoration: underline;
}
.words :deep(bdi) {
  font-family: var(--text);
  font-style: italic;
  font-weight: 400;
}
</style>
