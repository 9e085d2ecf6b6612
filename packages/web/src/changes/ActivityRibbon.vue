<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { useElementSize, useEventListener } from '@vueuse/core'
import { routes, type Activity } from '@spoor/contract'
import { actorKinds, counted, withoutPart, withPart, type Scope } from '@spoor/core'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import { actorLayers, savesOf } from '../value/actor-layers.ts'
import { bucketWords, readerZone } from '../value/time.ts'

/** Activity over the scope's time by kind of actor. Dragging over it, or the arrow keys, narrows the time. */
export interface Props {
  scope: Scope
  text: string
  version: number
}
const props = defineProps<Props>()
const emit = defineEmits<{ narrow: [scope: Scope] }>()
const host = ref<HTMLElement | null>(null)
const { width } = useElementSize(host)
const height = 42
const { data } = useQuery({
  queryKey: ['activity', computed(() => props.text), computed(() => props.version)],
  queryFn: () => call(routes.readActivity, { query: { scope: props.text, zone: readerZone } }),
  placeholderData: (before) => before,
})
type Bucket = Activity['buckets'][number]
const buckets = computed(() => data.value?.buckets ?? [])
const totalOf = (bucket: Bucket) => actorKinds.reduce((sum, kind) => sum + (bucket.saves[kind] ?? 0), 0)
const most = computed(() => Math.max(1, ...buckets.value.map(totalOf)))
const step = computed(() => (buckets.value.length > 0 ? width.value / buckets.value.length : 0))
const bars = computed(() =>
  buckets.value.map((bucket, at) => {
    let base = height
    return actorLayers
      .map(({ kinds, look }) => {
        const saves = savesOf(kinds, bucket.saves)
        const tall = saves === 0 ? 0 : Math.max(1.5, (saves / most.value) * (height - 2))
        base -= tall
        return { look, x: at * step.value + 0.5, y: base, width: Math.max(1, step.value - 1.5), height: tall }
      })
      .filter((bar) => bar.height > 0)
  }),
)
const shownLayers = computed(() =>
  actorLayers.filter(({ kinds }) => buckets.value.some((bucket) => kinds.some((kind) => bucket.saves[kind]))),
)

const picked = ref<[number, number] | null>(null)
let dragging = false
const at = (event: PointerEvent) => {
  const box = host.value!.getBoundingClientRect()
  return Math.min(buckets.value.length - 1, Math.max(0, Math.floor((event.clientX - box.left) / step.value)))
}
const ordered = computed(() =>
  picked.value ? ([Math.min(...picked.value), Math.max(...picked.value)] as const) : null,
)
function down(event: PointerEvent) {
  if (event.button !== 0 || buckets.value.length === 0) return
  dragging = true
  picked.value = [at(event), at(event)]
}
useEventListener('pointermove', (event) => dragging && picked.value && (picked.value = [picked.value[0], at(event)]))
useEventListener('pointerup', () => {
  if (!dragging) return
  dragging = false
  narrow()
})

function narrow() {
  const range = ordered.value
  picked.value = null
  if (!range) return
  const [from, to] = [buckets.value[range[0]]!.from, buckets.value[range[1]]!.to]
  const fine = data.value?.bucket === 'hour' || data.value?.bucket === 'minute'
  const minute = (instant: string) => `${instant.slice(0, 16)}Z`
  const day = (instant: string, shiftMs: number) =>
    new Intl.DateTimeFormat('en-CA', { timeZone: readerZone, dateStyle: 'short' }).format(Date.parse(instant) + shiftMs)
  const span = fine
    ? { span: 'instants' as const, from: minute(from), to: minute(to), zone: readerZone }
    : { span: 'days' as const, from: day(from, 0), to: day(to, -1), zone: readerZone }
  emit('narrow', withPart(props.scope, { part: 'when', exclude: false, span, effective: false }))
}

function onKey(event: KeyboardEvent) {
  const last = buckets.value.length - 1
  if (last < 0) return
  const [from, to] = picked.value ?? [last, last]
  const go = (by: number) => {
    const next = Math.min(last, Math.max(0, to + by))
    picked.value = event.shiftKey ? [from, next] : [next, next]
  }
  if (event.key === 'ArrowLeft') go(-1)
  else if (event.key === 'ArrowRight') go(1)
  else if (event.key === 'Enter') narrow()
  else if (event.key === 'Escape' && picked.value) picked.value = null
  else return
  event.preventDefault()
  event.stopPropagation()
}
const said = computed(() => {
  const range = ordered.value
  if (!range || !data.value) return ''
  const inside = buckets.value.slice(range[0], range[1] + 1)
  const words = bucketWords(inside[0]!.from, inside.at(-1)!.to, data.value.bucket)
  return `${words}: ${counted(
    inside.reduce((sum, bucket) => sum + totalOf(bucket), 0),
    'save',
  )}`
})
/** Some spells named along the foot, no closer than a word is wide. */
const marks = computed(() => {
  if (!data.value || step.value === 0) return []
  const every = Math.max(1, Math.ceil(84 / step.value))
  return buckets.value.flatMap((bucket, index) =>
    index % every === 0 && index * step.value < width.value - 70
      ? [{ x: index * step.value, words: bucketWords(bucket.from, bucket.from, data.value!.bucket, true) }]
      : [],
  )
})
</script>

<template>
  <div class="ribbon">
    <div
      ref="host"
      class="bars"
      role="slider"
      tabindex="0"
      aria-label="Activity over time; arrow keys choose a spell, with Shift several, Enter narrows to it"
      :aria-valuemin="0"
      :aria-valuemax="Math.max(0, buckets.length - 1)"
      :aria-valuenow="ordered?.[1] ?? Math.max(0, buckets.length - 1)"
      :aria-valuetext="said || 'nothing chosen'"
      @pointerdown.prevent="down"
      @keydown="onKey"
    >
      <svg :width="width" :height="height" aria-hidden="true">
        <g v-for="(stack, index) in bars" :key="index">
          <rect
            v-for="bar in stack"
            :key="bar.look"
            :class="`layer-${bar.look}`"
            :x="bar.x"
            :y="bar.y"
            :width="bar.width"
            :height="bar.height"
          />
        </g>
        <rect
          v-if="ordered"
          class="picked"
          :x="ordered[0] * step"
          y="0"
          :width="(ordered[1] - ordered[0] + 1) * step"
          :height="height"
        />
      </svg>
      <span v-for="mark in marks" :key="mark.x" class="mark quiet" :style="{ left: `${mark.x}px` }">{{
        mark.words
      }}</span>
    </div>
    <div class="key quiet">
      <template v-if="said">{{ said }}</template>
      <template v-else>
        <span v-for="layer in shownLayers" :key="layer.name"
          ><i :class="`layer-${layer.look}`" /> {{ layer.name }}</span
        >
      </template>
      <slot />
      <button v-if="scope.when" class="plain all" @click="emit('narrow', withoutPart(scope, 'when'))">All time</button>
    </div>
  </div>
</template>

<style scoped>
.ribbon {
  flex: none;
  background: var(--panel);
  border-bottom: 1px solid var(--line);
  padding: 6px 18px 3px;
}
.bars {
  position: relative;
  height: 60px;
  cursor: crosshair;
  touch-action: none;
}
svg {
  display: block;
  border-bottom: 1px solid var(--line);
}
.picked {
  fill: var(--pine);
  opacity: 0.22;
}
.mark {
  position: absolute;
  top: 44px;
  font-size: 11.5px;
  line-height: 15px;
  white-space: nowrap;
}
.key {
  display: flex;
  gap: 16px;
  font-size: 12px;
  min-height: 18px;
  white-space: nowrap;
}
.key i {
  display: inline-block;
  width: 10px;
  height: 10px;
  vertical-align: -1px;
}
.all {
  margin-left: auto;
  flex: none;
  color: var(--pine);
}
</style>
