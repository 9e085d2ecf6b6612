<script setup lang="ts">
import type { Today } from '@spoor/contract'
import { counted, scopeEntries, type ActorKind } from '@spoor/core'
import { computed } from 'vue'
import { actorLayers, savesOf } from '../value/actor-layers.ts'
import { dayText, readerZone } from '../value/time.ts'
import dayjs from 'dayjs'

/** The last fourteen days by kind of actor; each day leads to its saves. */
export interface Props {
  strip: Today['strip']
}
const props = defineProps<Props>()
const height = 74
const savesOn = (saves: Record<string, number>) => Object.values(saves).reduce((sum, one) => sum + one, 0)
const most = computed(() => Math.max(1, ...props.strip.map((one) => savesOn(one.saves))))
const days = computed(() =>
  props.strip.map(({ day, saves }, at) => ({
    day,
    layers: actorLayers
      .map(({ kinds, look, name }) => ({
        look,
        name,
        saves: savesOf(kinds, saves as Partial<Record<ActorKind, number>>),
      }))
      .filter((layer) => layer.saves > 0)
      .map((layer) => ({ ...layer, height: Math.max(2, (layer.saves / most.value) * height) })),
    words: `${dayText(day)}: ${counted(savesOn(saves), 'save')}`,
    mark: at === props.strip.length - 1 ? 'today' : at % 7 === 0 ? dayjs(day).format('D MMM') : '',
    query: Object.fromEntries(
      scopeEntries({
        when: {
          part: 'when',
          exclude: false,
          effective: false,
          span: { span: 'days', from: day, to: day, zone: readerZone },
        },
      }),
    ),
  })),
)
const shown = computed(() =>
  actorLayers.filter(({ look }) => days.value.some((one) => one.layers.some((layer) => layer.look === look))),
)
</script>

<template>
  <div class="bars">
    <RouterLink
      v-for="one in days"
      :key="one.day"
      :to="{ path: '/changes', query: one.query }"
      :aria-label="one.words"
      :title="one.words"
    >
      <span class="stack" :style="{ height: `${height + 4}px` }">
        <i
          v-for="layer in one.layers"
          :key="layer.look"
          :class="`layer-${layer.look}`"
          :style="{ height: `${layer.height}px` }"
        />
      </span>
      <span class="mark quiet" aria-hidden="true">{{ one.mark }}</span>
    </RouterLink>
  </div>
  <p class="key quiet">
    <span v-for="layer in shown" :key="layer.name"><i :class="`layer-${layer.look}`" /> {{ layer.name }}</span>
  </p>
</template>

<style scoped>
.bars {
  display: grid;
  grid-template-columns: repeat(14, 1fr);
  column-gap: 6px;
}
.bars a {
  text-decoration: none;
  min-width: 0;
}
.stack {
  display: flex;
  flex-direction: column-reverse;
  border-bottom: 1px solid var(--line);
  padding-top: 4px;
}
.mark {
  display: block;
  font-size: 11.5px;
  white-space: nowrap;
  height: 18px;
}
.key {
  display: flex;
  gap: 16px;
  font-size: 12px;
}
.key i {
  display: inline-block;
  width: 10px;
  height: 10px;
  vertical-align: -1px;
}
</style>
