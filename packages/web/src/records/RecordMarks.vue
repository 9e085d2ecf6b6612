<script setup lang="ts">
import type { RecordMark } from '@spoor/contract'
import { computed } from 'vue'
import type { RouteLocationRaw } from 'vue-router'
import { fullTime } from '../value/time.ts'
import { placeOf, type Range } from './scale.ts'

/** Runs, stories, questions, corrections and baselines on a record's time line. */
const props = defineProps<{ marks: readonly RecordMark[]; range: Range }>()

const signs = { run: 'run', story: 'out', question: 'ask', correction: 'cor', baseline: 'base' } as const
const titles = {
  run: 'Run',
  story: 'Stood out',
  question: 'Question',
  correction: 'Correction',
  baseline: 'Baseline',
} as const
function target({ kind, id }: RecordMark): RouteLocationRaw {
  switch (kind) {
    case 'run':
      return { path: '/changes', query: { how: `r${id}` } }
    case 'story':
      return { path: '/changes', query: { state: `s${id}` } }
    case 'question':
      return { path: '/changes', query: { state: 'asked,answered' } }
    case 'correction':
      return { name: 'correction', params: { correctionId: id } }
    case 'baseline':
      return { name: 'baseline', params: { baselineId: id } }
  }
}
const shown = computed(() =>
  props.marks.flatMap((mark) => {
    const ms = Date.parse(mark.at)
    if (ms < props.range.fromMs || ms > props.range.toMs) return []
    return [
      {
        ...mark,
        left: `${placeOf(ms, props.range) * 100}%`,
        to: target(mark),
        title: `${titles[mark.kind]} ${mark.kind === 'story' ? '' : `“${mark.words}”`}, ${fullTime(mark.at)}`,
      },
    ]
  }),
)
</script>

<template>
  <div v-if="marks.length > 0" class="row marks">
    <span class="quiet">what was made of it</span>
    <div class="lane">
      <RouterLink
        v-for="mark in shown"
        :key="`${mark.kind} ${mark.id}`"
        class="mark"
        :to="mark.to"
        :style="{ left: mark.left }"
        :title="mark.title"
        :aria-label="mark.title"
        >{{ signs[mark.kind] }}</RouterLink
      >
    </div>
  </div>
</template>

<style scoped>
.row {
  display: grid;
  grid-template-columns: 132px 1fr;
  align-items: center;
  height: 26px;
  font-size: 12px;
}
.lane {
  position: relative;
  height: 18px;
}
.mark {
  position: absolute;
  top: 0;
  padding: 0 3px;
  font-size: 11px;
  line-height: 17px;
  color: var(--pine);
  text-decoration: none;
  background: var(--panel);
  border-left: 2px solid var(--pine);
  z-index: 1;
}
.mark:hover,
.mark:focus-visible {
  text-decoration: underline;
  z-index: 2;
}
</style>
