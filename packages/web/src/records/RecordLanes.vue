<script setup lang="ts">
import { useElementSize, useEventListener } from '@vueuse/core'
import type { RecordMark } from '@spoor/contract'
import type { Holding } from '@spoor/core'
import { computed, ref, useTemplateRef } from 'vue'
import { fullTime } from '../value/time.ts'
import type { ShownValue } from '../value/words.ts'
import type { Below } from './below.ts'
import RecordMarks from './RecordMarks.vue'
import { placeOf, ticks, zoomed, type Range } from './scale.ts'
import type { Lane } from './story.ts'

export interface Props {
  lanes: readonly Lane[]
  /** When saves were made, epoch milliseconds, in order. */
  saveTimes: readonly number[]
  whole: Range
  picked: number | null
  fieldName: (fieldId: number) => string
  shown: (holding: Holding, fieldId: number) => ShownValue
  /** What belongs to the record, folded to the moments of its saves. */
  below?: readonly Below[]
  /** What was made of its saves. */
  marks?: readonly RecordMark[]
  /** What of it is listed, if anything. */
  listed?: string | null
}
const props = defineProps<Props>()
const emit = defineEmits<{ pick: [fieldId: number]; open: [saveId: string]; list: [id: string] }>()
/** The two cursors, epoch milliseconds. */
const a = defineModel<number>('a', { required: true })
const b = defineModel<number>('b', { required: true })

/** A part of the time line that somebody chose; lanes one under the other share it. */
const chosen = defineModel<Range | null>('range', { default: null })
const range = computed(() => chosen.value ?? props.whole)
const axis = useTemplateRef<HTMLElement>('axis')
const { width } = useElementSize(axis)
const scale = computed(() => ticks(range.value))
const percent = (ms: number) => `${placeOf(ms, range.value) * 100}%`
const isShown = (ms: number) => ms >= range.value.fromMs && ms <= range.value.toMs

interface Drawn {
  key: string
  left: string
  width: string
  kind: Holding['state']
  text: string
  isWords: boolean
  title: string
  by: string | null
  found: boolean
}
/** Narrower than this a value has no room for its name. */
const leastLabel = 34

function drawn({ fieldId, segments }: Lane): Drawn[] {
  const { fromMs, toMs } = range.value
  return segments.flatMap(({ from, to, holding, by, found }) => {
    const [start, end] = [from === null ? -Infinity : Date.parse(from), to === null ? Infinity : Date.parse(to)]
    if (end < fromMs || start > toMs || holding.state === 'absent') return []
    const [left, right] = [placeOf(Math.max(start, fromMs), range.value), placeOf(Math.min(end, toMs), range.value)]
    const { text, isWords } = props.shown(holding, fieldId)
    const span = `${from === null ? 'before everything' : fullTime(from)} to ${to === null ? 'now' : fullTime(to)}`
    return [
      {
        key: `${from}`,
        left: `${left * 100}%`,
        width: `${(right - left) * 100}%`,
        kind: holding.state,
        text: (right - left) * width.value >= leastLabel ? text : '',
        isWords,
        title: `${props.fieldName(fieldId)}: ${text}, ${span}${found ? ', as found: nobody’s change brought it' : ''}`,
        found,
        by: start >= fromMs ? by : null,
      },
    ]
  })
}

function timeAt(event: PointerEvent | WheelEvent): { ms: number; place: number } {
  const box = axis.value!.getBoundingClientRect()
  const place = Math.min(1, Math.max(0, (event.clientX - box.left) / box.width))
  return { ms: Math.round(range.value.fromMs + (range.value.toMs - range.value.fromMs) * place), place }
}
const dragging = ref<'a' | 'b' | null>(null)
useEventListener(window, 'pointermove', (event) => {
  if (dragging.value === 'a') a.value = timeAt(event).ms
  if (dragging.value === 'b') b.value = timeAt(event).ms
})
useEventListener(window, 'pointerup', () => (dragging.value = null))

/** From save to save; before the first and after the last it stays. */
function step(cursor: 'a' | 'b', forward: boolean): void {
  const at = cursor === 'a' ? a.value : b.value
  const to = forward ? props.saveTimes.find((ms) => ms > at) : props.saveTimes.findLast((ms) => ms < at)
  if (to === undefined) return
  if (cursor === 'a') a.value = to
  else b.value = to
}
function onKey(event: KeyboardEvent, cursor: 'a' | 'b'): void {
  if (event.key !== 'ArrowLeft' && event.key !== 'ArrowRight') return
  event.preventDefault()
  step(cursor, event.key === 'ArrowRight')
}
function zoom(factor: number, place = 0.5): void {
  const next = zoomed(range.value, factor, place, props.whole)
  chosen.value = next.toMs - next.fromMs >= props.whole.toMs - props.whole.fromMs ? null : next
}
function onWheel(event: WheelEvent): void {
  if (!event.ctrlKey && !event.metaKey) return
  event.preventDefault()
  zoom(event.deltaY > 0 ? 1.25 : 0.8, timeAt(event).place)
}
function move(share: number): void {
  const by = (range.value.toMs - range.value.fromMs) * share
  chosen.value = zoomed({ fromMs: range.value.fromMs + by, toMs: range.value.toMs + by }, 1, 0.5, props.whole)
}
const cursors = computed(() => [
  { name: 'a' as const, title: 'A', ms: a.value },
  { name: 'b' as const, title: 'B', ms: b.value },
])
</script>

<template>
  <div class="lanes" @wheel="onWheel">
    <div class="row head">
      <div class="zoom">
        <button class="plain" title="Earlier" @click="move(-0.5)">‹</button>
        <button class="plain" title="Closer (Ctrl and the wheel)" @click="zoom(0.5)">closer</button>
        <button class="plain" title="Further away" @click="zoom(2)">wider</button>
        <button class="plain" title="Later" @click="move(0.5)">›</button>
        <button v-if="chosen" class="plain" @click="chosen = null">all</button>
      </div>
      <div ref="axis" class="axis">
        <span v-for="mark in scale" :key="mark.ms" class="tick" :style="{ left: percent(mark.ms) }">{{
          mark.label
        }}</span>
      </div>
    </div>
    <RecordMarks :marks="marks ?? []" :range="range" />
    <div v-for="lane in lanes" :key="lane.fieldId" class="row">
      <button class="plain name" :class="{ on: picked === lane.fieldId }" @click="emit('pick', lane.fieldId)">
        {{ fieldName(lane.fieldId) }}
      </button>
      <div class="lane">
        <div
          v-for="(one, at) in drawn(lane)"
          :key="one.key"
          class="segment"
          :class="[one.kind, { odd: at % 2 === 1, found: one.found }]"
          :style="{ left: one.left, width: one.width }"
          :title="one.title"
        >
          <button
            v-if="one.by"
            class="plain joint"
            :aria-label="`Open the save that set ${one.title}`"
            @click="emit('open', one.by)"
          />
          <bdi class="mono" :class="{ words: one.isWords }">{{ one.text }}</bdi>
        </div>
      </div>
    </div>
    <div v-for="one in below" :key="`below ${one.id}`" class="row">
      <button
        class="plain name"
        :class="{ on: listed === one.id }"
        :aria-expanded="listed === one.id"
        :title="one.title"
        @click="emit('list', one.id)"
      >
        {{ listed === one.id ? '▾' : '▸' }} {{ one.title }}
      </button>
      <div class="lane thread">
        <button
          v-for="point in one.points.filter(({ ms }) => isShown(ms))"
          :key="point.saveId"
          class="plain point"
          :style="{ left: percent(point.ms) }"
          :title="point.title"
          :aria-label="`Open the save: ${point.title}`"
          @click="emit('open', point.saveId)"
        />
      </div>
    </div>
    <div class="row over" aria-hidden="false">
      <span />
      <div class="cursors">
        <template v-for="cursor in cursors" :key="cursor.name">
          <div
            v-if="isShown(cursor.ms)"
            class="cursor"
            :class="cursor.name"
            :style="{ left: percent(cursor.ms) }"
            role="slider"
            tabindex="0"
            :aria-label="`Moment ${cursor.title}`"
            :aria-valuenow="cursor.ms"
            :aria-valuemin="whole.fromMs"
            :aria-valuemax="whole.toMs"
            :aria-valuetext="fullTime(new Date(cursor.ms).toISOString())"
            @pointerdown.prevent="dragging = cursor.name"
            @keydown="onKey($event, cursor.name)"
          >
            <span class="handle">{{ cursor.title }}</span>
          </div>
        </template>
      </div>
    </div>
  </div>
</template>

<style scoped>
.lanes {
  position: relative;
  padding: 8px 18px 0;
  min-height: 120px;
}
.row {
  display: grid;
  grid-template-columns: 132px 1fr;
  align-items: center;
  height: 40px;
}
.head {
  height: 52px;
  align-items: start;
}
.zoom {
  display: flex;
  gap: 8px;
  font-size: 12px;
  color: var(--pine);
}
.axis {
  position: relative;
  height: 20px;
}
.tick {
  position: absolute;
  font-size: 12px;
  color: var(--soft);
  white-space: nowrap;
  padding-left: 4px;
  border-left: 1px solid var(--line);
}
.name {
  text-align: left;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  padding-right: 10px;
}
.name.on {
  font-weight: 650;
  color: var(--pine);
}
.lane {
  position: relative;
  height: 24px;
}
.segment {
  position: absolute;
  top: 0;
  height: 24px;
  min-width: 2px;
  overflow: visible;
  white-space: nowrap;
  border-radius: 2px;
}
.segment.value {
  background: var(--moss-wash);
  border: 1px solid var(--line);
}
.segment.value.odd {
  background: var(--pine-wash);
}
.segment.value.found {
  background: transparent;
  border-style: dashed;
}
.segment.unknown {
  background: repeating-linear-gradient(135deg, transparent 0 5px, var(--line) 5px 6px);
}
.segment bdi {
  display: block;
  overflow: hidden;
  text-overflow: ellipsis;
  padding: 1px 6px 0 10px;
  font-size: 12.5px;
}
.segment .words,
.segment.unknown bdi {
  font-family: var(--text);
  font-style: italic;
  color: var(--soft);
}
.joint {
  position: absolute;
  left: -5px;
  top: 6px;
  width: 10px;
  height: 10px;
  border-radius: 50%;
  background: var(--ink);
  z-index: 1;
}
.thread::before {
  content: '';
  position: absolute;
  inset: 11px 0 auto;
  border-top: 1px solid var(--line);
}
.point {
  position: absolute;
  top: 7px;
  width: 9px;
  height: 9px;
  margin-left: -5px;
  border-radius: 50%;
  border: 1.5px solid var(--ink);
  background: var(--panel);
}
.over {
  position: absolute;
  inset: 28px 18px 0;
  height: auto;
  pointer-events: none;
}
.cursors {
  position: relative;
  height: 100%;
}
.cursor {
  position: absolute;
  top: 0;
  bottom: 0;
  width: 0;
  border-left: 2px solid var(--pine);
  pointer-events: auto;
  cursor: ew-resize;
  touch-action: none;
}
.cursor.a {
  border-left-style: dashed;
}
.handle {
  position: absolute;
  left: -11px;
  top: -2px;
  width: 20px;
  text-align: center;
  border-radius: 3px;
  font-size: 11px;
  font-weight: 650;
  line-height: 18px;
  border: 1px solid var(--pine);
  background: var(--panel);
  color: var(--pine);
}
.b .handle {
  background: var(--pine);
  color: var(--on-pine);
}
</style>
