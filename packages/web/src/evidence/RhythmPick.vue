<script setup lang="ts">
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import InputNumber from 'ant-design-vue/es/input-number'
import { lastDayOfMonth, type Rhythm } from '@spoor/core'
import { computed } from 'vue'
import PickList from '../frame/PickList.vue'
import { weekdays } from '../watches/weekdays.ts'

/** When a pack is made: once, or regularly, each of the time before. */
const rhythm = defineModel<Rhythm | null>('rhythm', { required: true })
const options = [
  { value: 'once', label: 'once, now' },
  { value: 'week', label: 'each week, of the week before' },
  { value: 'month', label: 'each month, of the month before' },
  { value: 'quarter', label: 'each quarter, of the quarter before' },
]
const each = computed({
  get: () => rhythm.value?.each ?? 'once',
  set: (chosen) =>
    (rhythm.value = chosen === 'once' ? null : { at: '06:00', workingDay: true, ...rhythm.value, each: chosen, on: 1 }),
})
const put = (change: Partial<Rhythm>) => (rhythm.value = { ...rhythm.value!, ...change })
</script>

<template>
  <div class="rhythm">
    <PickList v-model:value="each" :options="options" aria-label="When it is made" size="small" />
    <span v-if="rhythm" class="line">
      <PickList
        v-if="rhythm.each === 'week'"
        :value="rhythm.on"
        :options="weekdays"
        aria-label="On which day"
        size="small"
        @update:value="put({ on: $event as number })"
      />
      <template v-else>
        on day
        <InputNumber
          :value="rhythm.on"
          :min="1"
          :max="lastDayOfMonth"
          :precision="0"
          size="small"
          aria-label="On which day of the month"
          @update:value="put({ on: Number($event ?? 1) })"
        />
        <template v-if="rhythm.each === 'quarter'">of its first month</template>
      </template>
      at
      <Input
        :value="rhythm.at"
        type="time"
        size="small"
        class="time"
        aria-label="At what time it is made"
        @update:value="put({ at: $event })"
      />
      <Checkbox :checked="rhythm.workingDay" @update:checked="put({ workingDay: $event })"
        >or the next working day</Checkbox
      >
    </span>
  </div>
</template>

<style scoped>
.rhythm {
  display: grid;
  gap: 6px;
  justify-items: start;
}
.line {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px;
}
.time {
  width: 108px;
}
</style>
