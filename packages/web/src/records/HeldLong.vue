<script setup lang="ts">
import type { Holding } from '@spoor/core'
import { counted } from '@spoor/core'
import { computed, ref } from 'vue'
import { dayAndTime } from '../value/time.ts'
import type { ShownValue } from '../value/words.ts'
import { lengthWords } from './scale.ts'
import { heldLong, type Lane } from './story.ts'

/** What a field held for how long, and since when first. */
const props = defineProps<{
  lane: Lane
  title: string
  nowMs: number
  shown: (holding: Holding, fieldId: number) => ShownValue
}>()
const all = ref(false)
const most = 5
const lengths = computed(() => heldLong(props.lane, props.nowMs))
const listed = computed(() => (all.value ? lengths.value : lengths.value.slice(0, most)))
</script>

<template>
  <table v-if="lengths.length > 0" class="lengths">
    <caption>
      How long
      <b>{{ title }}</b>
      held each value
    </caption>
    <thead>
      <tr>
        <th scope="col">Value</th>
        <th scope="col">In all</th>
        <th scope="col">First reached</th>
        <th scope="col"><span class="visually-hidden">Which that is</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(one, at) in listed" :key="at">
        <td>
          <bdi class="mono">{{ shown(one.holding, lane.fieldId).text }}</bdi>
        </td>
        <td>{{ lengthWords(one.ms) }}</td>
        <td>{{ one.first === null ? 'before anything is known' : dayAndTime(one.first) }}</td>
        <td class="quiet">
          {{
            [
              lengths.length > 1 && at === 0 ? 'longest' : '',
              lengths.length > 1 && at === lengths.length - 1 ? 'shortest' : '',
              one.current ? 'current' : '',
            ]
              .filter(Boolean)
              .join(', ')
          }}
        </td>
      </tr>
    </tbody>
  </table>
  <button v-if="lengths.length > most && !all" class="plain link" @click="all = true">
    {{ counted(lengths.length - most, 'more value') }}
  </button>
</template>

<style scoped>
.lengths {
  border-collapse: collapse;
  font-size: 12.5px;
  width: auto;
  margin-top: 4px;
}
caption {
  text-align: left;
}
th {
  text-align: left;
  font-weight: 400;
}
th,
td {
  padding: 1px 18px 1px 0;
  max-width: 320px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.link {
  color: var(--pine);
  justify-self: start;
}
</style>
