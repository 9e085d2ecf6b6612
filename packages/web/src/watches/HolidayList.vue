<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { Textarea } from 'ant-design-vue/es/input'
import { useQuery } from '@tanstack/vue-query'
import { routes, type Holidays } from '@spoor/contract'
import { counted, dateText, isDate, wallClock } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { readerZone } from '../value/time.ts'

/** Days on which nothing is expected of anybody, for whoever may say which they are. */
const { data, error, refetch } = useQuery({
  queryKey: ['holidays'],
  queryFn: () => call(routes.listHolidays),
  staleTime: Infinity,
})
const { busy, problem, doing } = useDoing()
const text = ref('')
const lineOf = ({ day, name }: Holidays[number]) => `${day} ${name}`.trim()
watch(
  () => data.value?.holidays,
  (holidays) => (text.value = (holidays ?? []).map(lineOf).join('\n')),
  { immediate: true },
)
/** Its lines, a day and what it is called each; a line that begins with no day is given back. */
const read = computed((): { holidays: Holidays; wrong: string | null } => {
  const holidays: Holidays = []
  for (const line of text.value.split('\n')) {
    const words = line.trim()
    if (words === '') continue
    const [day = '', ...name] = words.split(/\s+/)
    if (!isDate(day)) return { holidays: [], wrong: words }
    holidays.push({ day, name: name.join(' ').slice(0, 100) })
  }
  return { holidays, wrong: null }
})
const keep = () =>
  doing(async () => {
    await call(routes.keepHolidays, { body: { holidays: read.value.holidays } })
    await refetch()
  })
const shown = 4
const ahead = computed(() => {
  const today = wallClock(Date.now(), readerZone).date
  return (data.value?.holidays ?? []).filter(({ day }) => day >= today)
})
</script>

<template>
  <section class="holidays" aria-label="Holidays">
    <h2>
      Holidays <span class="quiet">days on which nothing is expected</span>
      <PressPopover title="Change …">
        <form @submit.prevent="keep">
          <label
            >One day a line, as <span class="mono">2026-12-25 Christmas Day</span>
            <Textarea v-model:value="text" :rows="8" aria-label="Holidays, one a line" class="mono" />
          </label>
          <p v-if="read.wrong !== null" class="attention">
            This begins with no day: <bdi>{{ read.wrong }}</bdi>
          </p>
          <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="read.wrong !== null"
            >Keep {{ counted(read.holidays.length, 'day') }}</Button
          >
        </form>
      </PressPopover>
    </h2>
    <ProblemNote v-if="error ?? problem" :problem="problem ?? problemOf(error)" />
    <p v-if="data" class="quiet">
      <template v-if="ahead.length === 0">None is ahead.</template>
      <template v-for="(one, at) in ahead.slice(0, shown)" :key="one.day"
        ><template v-if="at > 0"> · </template>{{ dateText(one.day)
        }}<bdi v-if="one.name">, {{ one.name }}</bdi></template
      ><template v-if="ahead.length > shown"> and {{ ahead.length - shown }} more</template>
    </p>
  </section>
</template>

<style scoped>
.holidays {
  padding: 14px 18px 4px;
  font-size: 13px;
}
h2 {
  display: flex;
  align-items: baseline;
  gap: 10px;
  font-size: 14px;
  font-weight: 650;
}
h2 > .quiet {
  font-weight: 400;
}
form {
  display: grid;
  gap: 8px;
  width: 340px;
}
</style>
