<script setup lang="ts">
import type { TrackedField } from '@spoor/contract'
import { dateText, lockHolds } from '@spoor/core'
import { computed } from 'vue'
import { fullTime } from '../value/time.ts'

/** One field as a tile: its shape says how it is kept, a ring that a change of that is staged. */
export interface Props {
  field: TrackedField
  /** The field as the draft has it. */
  staged: TrackedField
  isStaged: boolean
  picked: boolean
  /** Whether the whole type changes without being tracked. */
  typeUnseen: boolean
  disabled: boolean
  tabbable: boolean
}
const props = defineProps<Props>()

const locked = computed(() => lockHolds(props.staged.lock ?? undefined, new Date().toISOString().slice(0, 10)))
const unseen = computed(() => props.staged.keep === 'off' && (props.field.unseen || props.typeUnseen))
const marks = computed(() =>
  [
    props.staged.masked && 'masked',
    props.staged.sensitive && 'sensitive',
    props.staged.reason !== 'never' && `reason ${props.staged.reason}`,
    locked.value && 'locked',
  ].filter((word) => typeof word === 'string'),
)
const state = computed(() =>
  props.staged.keep === 'off'
    ? 'not tracked'
    : `kept as ${props.staged.keep === 'values' ? 'values' : 'a fingerprint'}`,
)
const title = computed(() => {
  const { column, dataType, partOfKey, generated, comment, trackedSince } = props.field
  const lock = props.staged.lock
  return [
    `${column} ${dataType}${partOfKey ? ', part of the key' : ''}${generated ? ', worked out by the database' : ''}`,
    comment,
    [state.value, ...marks.value].join(', '),
    lock && (lock.until === null ? 'Locked for good' : `Locked until ${dateText(lock.until)}`),
    trackedSince && `Tracked since ${fullTime(trackedSince)}`,
    unseen.value && 'Changes, and nobody would see it',
  ]
    .filter(Boolean)
    .join('\n')
})
</script>

<template>
  <button
    class="plain tile"
    :class="[staged.keep, { staged: isStaged, picked, locked, unseen }]"
    role="option"
    :aria-selected="picked"
    :aria-disabled="disabled"
    :data-field="field.id"
    :aria-label="[field.name, state, ...marks, isStaged ? 'staged' : ''].filter(Boolean).join(', ')"
    :title="title"
    :tabindex="tabbable ? 0 : -1"
  >
    {{ field.name
    }}<svg v-if="staged.masked" class="mark" viewBox="0 0 12 6" width="12" height="6" aria-hidden="true">
      <circle cx="2" cy="3" r="1.5" />
      <circle cx="6" cy="3" r="1.5" />
      <circle cx="10" cy="3" r="1.5" /></svg
    ><svg v-if="staged.sensitive" class="mark" viewBox="0 0 8 8" width="8" height="8" aria-hidden="true">
      <path d="M4 0 8 4 4 8 0 4z" /></svg
    ><span v-if="staged.reason === 'required'" class="mark letter" aria-hidden="true">why</span>
  </button>
</template>

<style scoped>
.tile {
  height: 24px;
  padding: 0 8px;
  font-size: 12.5px;
  line-height: 22px;
  border: 1.2px solid var(--faint);
  border-radius: 3px;
  color: var(--soft);
  background: var(--panel);
  white-space: nowrap;
  user-select: none;
}
.values {
  background: var(--moss-wash);
  border-color: var(--moss);
  color: var(--ink);
}
.fingerprint {
  border-color: var(--moss);
  color: var(--ink);
  background: linear-gradient(135deg, var(--moss-wash) 0 50%, var(--panel) 50%);
}
.locked {
  box-shadow: inset 0 -3px 0 var(--ink);
}
.unseen {
  border: 1.4px dashed var(--plum);
  color: var(--plum);
}
.staged {
  outline: 2px solid var(--pine);
  outline-offset: 1px;
}
.picked {
  background: var(--pine);
  border-color: var(--pine);
  color: var(--on-pine);
}
.tile:focus-visible {
  outline: 3px solid var(--pine);
  outline-offset: 2px;
}
.tile[aria-disabled='true'] {
  cursor: not-allowed;
  color: var(--faint);
}
.mark {
  fill: currentColor;
  margin-left: 6px;
}
.letter {
  font-size: 10.5px;
  font-weight: 600;
}
</style>
