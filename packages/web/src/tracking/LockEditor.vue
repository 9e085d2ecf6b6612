<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import DatePicker from 'ant-design-vue/es/date-picker'
import Input from 'ant-design-vue/es/input'
import dayjs, { type Dayjs } from 'dayjs'
import { dateText, lockWords, type Lock } from '@spoor/core'
import { computed, ref } from 'vue'

/** Puts a lock on. Whoever does types what it means, so that it is not put on by a slip. */
export interface Props {
  /** The lock as JSON; undefined when the fields differ. */
  lock: string | undefined
  disabled: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ lock: [lock: Lock, words: string] }>()
const open = ref(false)
const until = ref<string | null>(null)
const typed = ref('')
const words = computed(() => lockWords({ until: until.value }))
const now = computed(() => {
  if (props.lock === undefined) return 'The picked fields are locked differently.'
  const lock = JSON.parse(props.lock) as Lock | null
  if (lock === null) return 'Not locked.'
  return lock.until === null ? 'Locked for good.' : `Locked until ${dateText(lock.until)}.`
})
const past = (day: Dayjs) => day.isBefore(dayjs(), 'day')

function put() {
  emit('lock', { until: until.value }, typed.value)
  open.value = false
  typed.value = ''
}
</script>

<template>
  <div class="lock">
    <p>{{ now }} <button v-if="!open && !disabled" class="plain link" @click="open = true">Lock …</button></p>
    <template v-if="open">
      <label class="row"
        >Until, that day included
        <DatePicker
          :value="(until === null ? undefined : dayjs(until)) as never"
          size="small"
          format="D MMM YYYY"
          placeholder="for good"
          :disabled-date="past"
          @change="(value: Dayjs | string) => (until = value ? dayjs(value).format('YYYY-MM-DD') : null)"
      /></label>
      <p class="quiet">
        Once the plan is in force nobody can switch the field off inside Spoor before that. Type <b>{{ words }}</b> to
        confirm.
      </p>
      <div class="row">
        <Input v-model:value="typed" size="small" :placeholder="words" aria-label="What the lock means" />
        <Button size="small" :disabled="typed.trim().toLowerCase() !== words.toLowerCase()" @click="put"
          >Stage the lock</Button
        >
        <button class="plain quiet" @click="open = false">Not now</button>
      </div>
    </template>
  </div>
</template>

<style scoped>
.lock {
  display: grid;
  gap: 6px;
}
.row {
  display: flex;
  align-items: center;
  gap: 8px;
}
.link {
  color: var(--pine);
}
</style>
