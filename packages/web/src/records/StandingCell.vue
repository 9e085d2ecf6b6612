<script setup lang="ts">
import type { StandingPage } from '@spoor/contract'
import { computed } from 'vue'
import { fullTime } from '../value/time.ts'
import { shownValue } from '../value/words.ts'
import { whyUnknown } from './story.ts'

/** What one field of a record holds, and where that came from. */
export interface Props {
  held: StandingPage['records'][number]['values'][number]
  baseType: string
  /** What the record is called that the value points to. */
  label?: string | undefined
  /** Whether its past is what stands beside. */
  here: boolean
}
const props = defineProps<Props>()
const shown = computed(() => {
  const { value, unknown } = props.held
  if (unknown !== null) return { text: unknown === 'masked' ? '••••••' : '', isWords: true }
  return props.label === undefined ? shownValue(value, props.baseType) : { text: props.label, isWords: false }
})
const isBlank = computed(() => props.held.unknown !== null && props.held.unknown !== 'masked')
const title = computed(() => {
  const { value, unknown, since, found } = props.held
  const from = since === null ? [] : [`${found ? 'as found' : 'since'} ${fullTime(since)}`]
  if (unknown !== null) return [unknown === 'masked' ? 'masked' : whyUnknown(unknown), ...from].join(' · ')
  return [...(props.label === undefined ? [] : [value ?? '']), ...from].join(' · ')
})
</script>

<template>
  <span
    class="mono cell"
    role="cell"
    :class="{ unknown: isBlank, quiet: shown.isWords, moved: held.times > 0, here }"
    :title="title"
    ><span v-if="isBlank && held.unknown" class="visually-hidden">{{ whyUnknown(held.unknown) }}</span
    ><bdi>{{ shown.text }}{{ held.cut ? '…' : '' }}</bdi
    ><span v-if="held.times > 0" class="spots"
      ><span v-for="n in held.times" :key="n" class="spot" aria-hidden="true" /><span class="visually-hidden">{{
        held.times === 1 ? 'changed' : 'changed more than once'
      }}</span></span
    ></span
  >
</template>

<style scoped>
.cell {
  cursor: pointer;
  position: relative;
  padding: 3px 16px 3px 4px;
  margin-left: -4px;
}
.moved {
  font-weight: 650;
}
.here {
  outline: 2px solid var(--pine);
  outline-offset: -2px;
  background: var(--pine-wash);
}
.spots {
  position: absolute;
  right: 3px;
  bottom: 4px;
  display: inline-flex;
  gap: 2px;
}
.spot {
  width: 5px;
  height: 5px;
  border-radius: 50%;
  background: var(--ink);
}
.unknown {
  height: 20px;
  background: repeating-linear-gradient(135deg, var(--line-soft) 0 3px, transparent 3px 7px);
}
</style>
