<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import DatePicker from 'ant-design-vue/es/date-picker'
import Input from 'ant-design-vue/es/input'
import type { Dayjs } from 'dayjs'
import type { StandingCondition } from '@spoor/contract'
import { capitalised, listed } from '@spoor/core'
import { computed, ref } from 'vue'
import PickList from '../frame/PickList.vue'
import SentencePart from '../scope/SentencePart.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { fromCalendar, fullTime, onClock, readerZone, toCalendar } from '../value/time.ts'
import { conditionWords, markedDays, markWords, needsText, type GridAsked } from './grid.ts'

/** Which records, as of when, what is marked: a sentence whose parts are pressed. */
export interface Props {
  typeId: number
  names: NamedVocabulary
  asked: GridAsked
}
const props = defineProps<Props>()
const emit = defineEmits<{ type: [id: number]; ask: [change: Partial<GridAsked>] }>()

type Part = 'type' | 'at' | 'marks' | 'where'
const open = ref<Part | null>(null)
const opens = (part: Part) => (now: boolean) => (open.value = now ? part : null)
function done(change: Partial<GridAsked>) {
  open.value = null
  emit('ask', change)
}

const types = computed(() =>
  props.names.types
    .filter((one) => props.names.fields.some((field) => field.typeId === one.id))
    .map((one) => ({ value: one.id, label: capitalised(one.plural) })),
)
const fields = computed(() =>
  props.names.fields
    .filter((field) => field.typeId === props.typeId && !field.masked)
    .map((field) => ({ value: field.id, label: field.name })),
)
const typeName = computed(() => types.value.find((one) => one.value === props.typeId)?.label ?? 'Records')

const moments = computed(() => {
  const now = onClock(Date.now())
  return [
    { words: 'last midnight', at: now.startOf('day') },
    { words: 'a week ago', at: now.subtract(7, 'day') },
    { words: 'the beginning of this month', at: now.startOf('month') },
    { words: 'the beginning of this year', at: now.startOf('year') },
  ]
})
const iso = (ms: number) => new Date(ms).toISOString()
function setMoment(picked: Dayjs | string | null) {
  if (picked && typeof picked !== 'string') done({ at: iso(fromCalendar(picked)) })
}
function setMarks(picked: Dayjs | string | null) {
  if (picked && typeof picked !== 'string') done({ marks: iso(fromCalendar(picked)) })
}
const toCome = (day: Dayjs) => fromCalendar(day.startOf('day')) > Date.now()

const condition = ref<StandingCondition>({ fieldId: 0, is: 'equal', text: '' })
const kinds = Object.entries(conditionWords) as [StandingCondition['is'], string][]
const said = ({ fieldId, is, text }: StandingCondition) =>
  `${props.names.fieldName(fieldId)} ${conditionWords[is]}${needsText(is) ? ` ${text === '' ? '“”' : text}` : ''}`
const whereWords = computed(() =>
  props.asked.where.length === 0 ? 'whatever they hold' : `those whose ${listed(props.asked.where.map(said))}`,
)
function add() {
  const { fieldId, is, text } = condition.value
  emit('ask', { where: [...props.asked.where, { fieldId, is, text: needsText(is) ? text : '' }] })
  condition.value = { ...condition.value, text: '' }
}
</script>

<template>
  <div class="sentence" role="group" aria-label="Which records">
    <SentencePart
      :open="open === 'type'"
      :text="typeName"
      narrows
      data-part="type"
      @update:open="opens('type')($event)"
    >
      <div class="editor">
        <PickList
          :value="typeId"
          :options="types"
          show-search
          option-filter-prop="label"
          aria-label="Record type"
          @change="(id: unknown) => ((open = null), emit('type', Number(id)))"
        />
      </div>
    </SentencePart>
    <span class="words">{{ asked.at === null ? ' as they stand ' : ' as they stood ' }}</span>
    <SentencePart
      :open="open === 'at'"
      :text="asked.at === null ? 'now' : fullTime(asked.at)"
      :narrows="asked.at !== null"
      data-part="at"
      @update:open="opens('at')($event)"
    >
      <div class="editor">
        <ul>
          <li><button class="plain act" @click="done({ at: null })">now</button></li>
          <li v-for="one in moments" :key="one.words">
            <button class="plain act" @click="done({ at: iso(one.at.valueOf()) })">{{ one.words }}</button>
          </li>
        </ul>
        <label class="row"
          >Another moment
          <DatePicker
            size="small"
            show-time
            format="D MMM YYYY HH:mm:ss"
            :disabled-date="toCome as never"
            :value="(asked.at === null ? undefined : toCalendar(Date.parse(asked.at))) as never"
            :aria-label="`Another moment, ${readerZone}`"
            @change="setMoment($event as never)"
          />
        </label>
        <p class="quiet">Time of {{ readerZone }}. Everything up to that moment counts.</p>
      </div>
    </SentencePart>
    <span class="words">, </span>
    <SentencePart
      :open="open === 'where'"
      :text="whereWords"
      :narrows="asked.where.length > 0"
      data-part="where"
      @update:open="opens('where')($event)"
    >
      <div class="editor wide">
        <ul v-if="asked.where.length > 0">
          <li v-for="(one, at) in asked.where" :key="at" class="said">
            {{ said(one) }}
            <button class="plain act" @click="emit('ask', { where: asked.where.filter((_, other) => other !== at) })">
              Take away
            </button>
          </li>
        </ul>
        <form class="new" @submit.prevent="add">
          <PickList
            :value="condition.fieldId || undefined"
            size="small"
            placeholder="a field"
            show-search
            option-filter-prop="label"
            aria-label="Field"
            :options="fields"
            @change="(id: unknown) => (condition.fieldId = Number(id))"
          />
          <select v-model="condition.is" aria-label="Condition">
            <option v-for="[id, words] in kinds" :key="id" :value="id">{{ words }}</option>
          </select>
          <Input v-if="needsText(condition.is)" v-model:value="condition.text" size="small" aria-label="Value" />
          <Button size="small" html-type="submit" :disabled="condition.fieldId === 0">Add</Button>
        </form>
        <p class="quiet">
          At that moment, as the database writes values: 120.50, 2026-03-20. What is not known then meets no condition.
        </p>
      </div>
    </SentencePart>
    <span class="words">, marking </span>
    <SentencePart
      :open="open === 'marks'"
      :text="markWords(asked)"
      :narrows="asked.marks !== null"
      data-part="marks"
      @update:open="opens('marks')($event)"
    >
      <div class="editor">
        <ul>
          <li v-for="days in markedDays" :key="days">
            <button class="plain act" @click="done({ marks: days })">
              {{ markWords({ ...asked, marks: days }) }}
            </button>
          </li>
          <li><button class="plain act" @click="done({ marks: null })">nothing</button></li>
        </ul>
        <label class="row"
          >What changed since
          <DatePicker
            size="small"
            show-time
            format="D MMM YYYY HH:mm"
            :disabled-date="toCome as never"
            :aria-label="`What changed since, ${readerZone}`"
            @change="setMarks($event as never)"
          />
        </label>
        <p class="quiet">Records that were deleted in that time are named, too.</p>
      </div>
    </SentencePart>
    <span class="words">.</span>
  </div>
</template>

<style scoped src="../scope/sentence.css"></style>
<style scoped src="../scope/condition.css"></style>
<style scoped>
.row {
  display: grid;
  grid-template-columns: 1fr 1fr;
  align-items: center;
  margin: 8px 0 4px;
}
.wide {
  width: 460px;
}
.new {
  --condition: 150px auto 1fr auto;
}
</style>
