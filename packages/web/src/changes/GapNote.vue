<script setup lang="ts">
import type { Summary } from '@spoor/contract'
import Popover from 'ant-design-vue/es/popover'
import { counted } from '@spoor/core'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { gapWords } from './gaps.ts'

/** Spells within the scope in which something was not captured: the first in a line, all of them on a press. */
export interface Props {
  gaps: Summary['gaps']
  names: NamedVocabulary
}
defineProps<Props>()
</script>

<template>
  <Popover trigger="click" placement="bottomRight" :arrow="false">
    <button class="plain attention gap">
      <b>Not on the trail:</b> {{ gapWords(gaps.slice(0, 1), names)
      }}<template v-if="gaps.length > 1"> and {{ counted(gaps.length - 1, 'more gap') }}</template>
    </button>
    <template #content>
      <div class="all">
        <p v-for="gap in gaps" :key="`${gap.fieldId} ${gap.from}`">{{ gapWords([gap], names) }}</p>
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.gap {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  text-align: left;
  color: var(--plum);
}
.all {
  max-width: 520px;
  max-height: 50vh;
  overflow: auto;
}
.all p {
  margin: 0 0 4px;
}
</style>
