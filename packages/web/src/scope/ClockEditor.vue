<script setup lang="ts">
import { weekdayWords, type ClockPart } from '@spoor/core'
import { computed } from 'vue'
import { readerZone } from '../value/time.ts'
import type { NamedVocabulary } from './vocabulary.ts'

/** At which hours of which days of the week. */
export interface Props {
  part: ClockPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: ClockPart] }>()
const now = computed<ClockPart>(
  () => props.part ?? { part: 'clock', exclude: false, hours: [], weekdays: [], zone: readerZone },
)
const hours = Array.from({ length: 24 }, (_, hour) => hour)
const turned = (list: readonly number[], one: number) =>
  list.includes(one) ? list.filter((other) => other !== one) : [...list, one].sort((a, b) => a - b)
const spells = [
  { text: 'At night, 22:00 to 06:00', put: { hours: [22, 23, 0, 1, 2, 3, 4, 5] } },
  { text: 'On Saturdays and Sundays', put: { weekdays: [6, 7] } },
  { text: 'On Mondays to Fridays', put: { weekdays: [1, 2, 3, 4, 5] } },
]
</script>

<template>
  <ul>
    <li v-for="one in spells" :key="one.text">
      <button class="plain act" @click="emit('put', { ...now, ...one.put })">{{ one.text }}</button>
    </li>
  </ul>
  <p class="quiet">Hours on the clock of {{ now.zone }}</p>
  <div class="ticks" role="group" aria-label="Hours of the day">
    <button
      v-for="hour in hours"
      :key="hour"
      class="plain"
      :aria-pressed="now.hours.includes(hour)"
      @click="emit('put', { ...now, hours: turned(now.hours, hour) })"
    >
      {{ String(hour).padStart(2, '0') }}
    </button>
  </div>
  <div class="ticks days" role="group" aria-label="Days of the week">
    <button
      v-for="(word, at) in weekdayWords"
      :key="word"
      class="plain"
      :aria-label="word"
      :aria-pressed="now.weekdays.includes(at + 1)"
      @click="emit('put', { ...now, weekdays: turned(now.weekdays, at + 1) })"
    >
      {{ word.slice(0, 3) }}
    </button>
  </div>
</template>

<style scoped src="./sentence.css"></style>
<style scoped>
.ticks {
  display: grid;
  grid-template-columns: repeat(12, 1fr);
  gap: 3px;
  margin: 4px 0 8px;
}
.ticks.days {
  grid-template-columns: repeat(7, 1fr);
}
.ticks button {
  border: 1px solid var(--line);
  border-radius: 3px;
  text-align: center;
  font-size: 12.5px;
}
.ticks [aria-pressed='true'] {
  background: var(--pine);
  color: var(--on-pine);
}
</style>
