<script setup lang="ts">
import { computed } from 'vue'
import { fullTime } from '../value/time.ts'

/** A year as a line: filled where a watch fired, hollow where it would have, had it been there. */
export interface Props {
  fired: readonly string[]
  would?: readonly string[]
  /** What it shows, for whoever does not see it. */
  words: string
}
const props = withDefaults(defineProps<Props>(), { would: () => [] })
const width = 300
const radius = 4
const yearMs = 365 * 86_400_000
const now = Date.now()
const placeOf = (at: string) =>
  radius + Math.max(0, Math.min(1, 1 - (now - Date.parse(at)) / yearMs)) * (width - 2 * radius)
/** What lies on one another is drawn once. */
function places(moments: readonly string[]) {
  const drawn = new Map<number, { x: number; from: string; count: number }>()
  for (const at of moments) {
    const x = Math.round(placeOf(at))
    const there = drawn.get(x)
    drawn.set(x, { x, from: there?.from ?? at, count: (there?.count ?? 0) + 1 })
  }
  return [...drawn.values()]
}
const titleOf = ({ from, count }: { from: string; count: number }) =>
  `${fullTime(from)}${count > 1 ? ` and ${count - 1} more` : ''}`
const hollow = computed(() => places(props.would))
const filled = computed(() => places(props.fired))
</script>

<template>
  <svg :viewBox="`0 0 ${width} 14`" role="img" :aria-label="words">
    <line x1="0" :x2="width" y1="7" y2="7" class="line" />
    <circle v-for="one in hollow" :key="`h${one.x}`" :cx="one.x" cy="7" :r="radius - 0.7" class="would">
      <title>would have, {{ titleOf(one) }}</title>
    </circle>
    <circle v-for="one in filled" :key="`f${one.x}`" :cx="one.x" cy="7" :r="radius" class="did">
      <title>{{ titleOf(one) }}</title>
    </circle>
  </svg>
</template>

<style scoped>
svg {
  width: 100%;
  max-width: 300px;
  height: 14px;
}
.line {
  stroke: var(--line);
  stroke-width: 3;
  stroke-dasharray: 5 1.5;
}
.would {
  fill: var(--ground);
  stroke: var(--ink);
  stroke-width: 1.4;
}
.did {
  fill: var(--ink);
}
</style>
