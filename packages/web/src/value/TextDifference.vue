<script setup lang="ts">
import { visible } from './words.ts'
import { jsonDifferences, textParts, valueKind } from '@spoor/core'
import { computed } from 'vue'
import ValueText from './ValueText.vue'

/** Where two long texts or two json values differ: removed words in the line before, added ones in the line after. */
export interface Props {
  before: string
  after: string
  baseType: string
}
const props = defineProps<Props>()
const isJson = computed(() => valueKind(props.baseType) === 'json')
const places = computed(() => (isJson.value ? jsonDifferences(props.before, props.after) : null))
const parts = computed(() => (isJson.value ? null : textParts(props.before, props.after)))
const missing = { before: 'was not there', after: 'is not there any more' }
</script>

<template>
  <dl v-if="places" class="places">
    <template v-for="place in places" :key="place.path">
      <dt class="mono">{{ place.path || 'the whole value' }}</dt>
      <dd v-for="side in ['before', 'after'] as const" :key="side">
        <i v-if="place[side] === undefined" class="quiet">{{ missing[side] }}</i>
        <ValueText v-else :value="place[side]!" base-type="text" :side="side" whole />
      </dd>
    </template>
  </dl>
  <template v-else-if="parts">
    <p v-for="side in ['before', 'after'] as const" :key="side" class="side" :class="side">
      <span class="mark" aria-hidden="true" /><span class="visually-hidden">{{ side }}</span>
      <bdi
        ><template v-for="(part, at) in parts" :key="at"
          ><template v-if="part.side === 'both'">{{ visible(part.text) }}</template
          ><del v-else-if="side === 'before' && part.side === 'before'">{{ visible(part.text) }}</del
          ><ins v-else-if="side === 'after' && part.side === 'after'">{{ visible(part.text) }}</ins></template
        ></bdi
      >
    </p>
  </template>
  <template v-else>
    <ValueText :value="before" :base-type="baseType" side="before" whole />
    <ValueText :value="after" :base-type="baseType" side="after" whole />
  </template>
</template>

<style scoped>
.side {
  display: grid;
  grid-template-columns: 14px 1fr;
  align-items: baseline;
  font-size: 13px;
}
.side bdi {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  max-height: 240px;
  overflow: auto;
  grid-column: 2;
}
.side .visually-hidden {
  grid-row: 1;
}
.before {
  color: var(--soft);
}
.mark {
  width: 9px;
  height: 9px;
  border-radius: 50%;
}
.before .mark {
  border: 1.6px solid var(--soft);
}
.after .mark {
  background: var(--ink);
}
del {
  text-decoration: underline dotted;
  text-decoration-thickness: 2px;
  text-underline-offset: 3px;
}
ins {
  text-decoration: underline solid;
  text-decoration-thickness: 2px;
  text-underline-offset: 3px;
  font-weight: 600;
}
.places {
  display: block;
  font-size: 13px;
}
dt {
  color: var(--soft);
}
</style>
