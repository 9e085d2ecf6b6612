<script setup lang="ts">
import type { Save } from '@spoor/contract'
import { computed } from 'vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { dayAndTime, timeText } from '../value/time.ts'
import BeforeAfter from '../value/BeforeAfter.vue'
import { saver } from '../value/done-by.ts'
import type { LabelOf } from '../value/labels.ts'
import type { SaveColumn } from './columns.ts'

export interface Props {
  save: Save
  names: NamedVocabulary
  columns: readonly { id: SaveColumn }[]
  /** Saves are not told apart by day. */
  dated: boolean
  labelOf: LabelOf
  picked: boolean
  open: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ open: []; pick: [] }>()
const shown = computed(() => props.save.changes.filter((change) => change.inScope))
const shownIds = computed(() => new Set(shown.value.map((change) => change.fieldId)))
/** What follows from another change of the same save is counted and not spelt out. */
const spelt = computed(() =>
  shown.value.filter((change) => props.names.causeAmong(change.fieldId, shownIds.value) === undefined),
)
const followed = computed(() => shown.value.length - spelt.value.length)
const others = computed(() => props.save.changes.length - shown.value.length)
const who = computed(() => saver(props.save))
</script>

<template>
  <div class="row" :class="{ open }" role="row" :aria-selected="open" @click="emit('open')">
    <span role="gridcell">
      <input
        type="checkbox"
        :checked="picked"
        :aria-label="`Pick ${save.label} of ${timeText(save.at)} into the tray`"
        tabindex="-1"
        @click.stop
        @change="emit('pick')"
      />
    </span>
    <template v-for="{ id } in columns" :key="id">
      <span v-if="id === 'time'" class="mono" role="gridcell">{{
        dated ? dayAndTime(save.at) : timeText(save.at)
      }}</span>
      <span v-else-if="id === 'who'" class="who" role="gridcell" :title="who"
        ><ActorGlyph :kind="save.actor.kind" />{{ who
        }}<i v-if="save.actor.claimed" class="attention"> claimed</i></span
      >
      <span
        v-else-if="id === 'record'"
        class="record"
        role="gridcell"
        :title="save.parent ? `${save.label}, of ${save.parent.label}` : save.label"
      >
        <span class="type">{{ names.typeTitle(save.typeId) }}</span> <bdi>{{ save.label }}</bdi><span
          v-if="save.parent"
          class="type"
        >
          of <bdi>{{ save.parent.label }}</bdi></span
        >
      </span>
      <span v-else-if="id === 'values'" class="values" role="gridcell">
        <b v-if="save.action === 'create'">created </b><b v-if="save.action === 'delete'">deleted </b>
        <span v-for="change in spelt" :key="change.fieldId" class="change">
          <span class="field">{{ names.fieldName(change.fieldId) }}</span>
          <BeforeAfter
            :change="change"
            :action="save.action"
            :base-type="names.baseType(change.fieldId)"
            :label-of="labelOf"
          />
          <i v-if="change.revertedBy" class="quiet">set back</i>
        </span>
        <span v-if="followed > 0" class="quiet follow">{{ followed }} followed</span>
        <i v-for="mark in save.marks" :key="mark" class="quiet follow" :class="{ attention: mark === 'flagged' }">{{
          mark
        }}</i>
        <span v-if="others > 0" class="quiet">and {{ others }} more</span>
      </span>
      <span v-else-if="id === 'channel'" class="quiet" role="gridcell" :title="save.channel">{{ save.channel }}</span>
      <span v-else-if="id === 'reason'" class="quiet" role="gridcell" :title="save.reason ?? ''">{{
        save.reason ?? ''
      }}</span>
      <span v-else class="mono quiet" role="gridcell">{{ save.id }}</span>
    </template>
  </div>
</template>

<style scoped src="./save-row.css"></style>
<style scoped>
.row.open {
  background: var(--pine-wash);
  box-shadow: inset 3px 0 0 var(--pine);
}
.type {
  color: var(--soft);
}
.follow {
  margin-right: 12px;
}
</style>
