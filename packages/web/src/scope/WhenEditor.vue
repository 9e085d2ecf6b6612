<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import DatePicker from 'ant-design-vue/es/date-picker'
import dayjs, { type Dayjs } from 'dayjs'
import { capitalised, listed, namedSpans, wallClock, type Span, type WhenPart } from '@spoor/core'
import { computed } from 'vue'
import { readerZone } from '../value/time.ts'
import type { NamedVocabulary } from './vocabulary.ts'

export interface Props {
  part: WhenPart | undefined
  names: NamedVocabulary
}
const props = defineProps<Props>()
const emit = defineEmits<{ put: [part: WhenPart] }>()

const exclude = computed(() => props.part?.exclude ?? false)
const effective = computed(() => props.part?.effective ?? false)
/** Types whose records say themselves when they take effect. */
const withDay = computed(() => props.names.types.filter((type) => type.effectiveFieldId !== null))
const zone = computed(() => props.part?.span.zone ?? readerZone)
const presets = computed(() =>
  [
    ...(effective.value ? [] : [{ name: 'since I last looked', span: { span: 'look' as const, zone: zone.value } }]),
    ...namedSpans(wallClock(Date.now(), zone.value).date, zone.value),
    ...[7, 30, 90].map((days) => ({
      name: `last ${days} days`,
      span: { span: 'last' as const, days, zone: zone.value },
    })),
  ].map((one) => ({ ...one, name: capitalised(one.name) })),
)
const day = (text: string | null) => (text === null ? undefined : dayjs(text))
const from = computed(() => (props.part?.span.span === 'days' ? day(props.part.span.from) : undefined))
const to = computed(() => (props.part?.span.span === 'days' ? day(props.part.span.to) : undefined))

function put(span: Span, byEffect = effective.value) {
  emit('put', { part: 'when', exclude: exclude.value, span, effective: byEffect })
}
function setEffective(on: boolean) {
  const today = wallClock(Date.now(), zone.value).date
  const before = props.part?.span
  // A day of effect has no hours: the month is taken where only moments were asked for.
  const span: Span =
    before && ['days', 'last'].includes(before.span)
      ? before
      : { span: 'days', from: `${today.slice(0, 7)}-01`, to: today, zone: zone.value }
  put(span, on)
}

function setEnd(end: 'from' | 'to', value: Dayjs | string | null) {
  const text = value ? dayjs(value).format('YYYY-MM-DD') : null
  let ends = { from: from.value?.format('YYYY-MM-DD') ?? null, to: to.value?.format('YYYY-MM-DD') ?? null, [end]: text }
  // The end that was just set is the one that is meant.
  if (ends.from !== null && ends.to !== null && ends.from > ends.to)
    ends = { ...ends, [end === 'from' ? 'to' : 'from']: text }
  put({ span: 'days', ...ends, zone: zone.value })
}
</script>

<template>
  <div v-if="withDay.length > 0" class="meant">
    <label class="choice"
      ><input type="radio" name="meant" :checked="!effective" @change="setEffective(false)" /> when it was
      entered</label
    >
    <label class="choice"
      ><input type="radio" name="meant" :checked="effective" @change="setEffective(true)" /> when it takes effect, by
      the record’s own day</label
    >
  </div>
  <div class="presets">
    <Button v-for="one in presets" :key="one.name" size="small" @click="put(one.span)">{{ one.name }}</Button>
  </div>
  <div class="ends">
    <label
      >From<DatePicker
        :value="from as never"
        format="D MMM YYYY"
        @change="(value: Dayjs | string) => setEnd('from', value)"
    /></label>
    <label
      >to, that day included<DatePicker
        :value="to as never"
        format="D MMM YYYY"
        @change="(value: Dayjs | string) => setEnd('to', value)"
    /></label>
  </div>
  <p class="quiet">Days of {{ zone }}.</p>
  <p v-if="effective" class="quiet">
    Known of {{ listed(withDay.map((type) => `${type.plural} (${names.fieldName(type.effectiveFieldId!)})`)) }}, as it
    stood after each save. What has no such day is left out.
  </p>
</template>

<style scoped>
.presets {
  display: flex;
  gap: 6px;
  flex-wrap: wrap;
}
.ends {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 10px;
  margin: 12px 0 6px;
}
label {
  display: grid;
}
.choice {
  display: flex;
  gap: 6px;
}
.meant {
  margin-bottom: 10px;
}
</style>
