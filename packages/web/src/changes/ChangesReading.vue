<script setup lang="ts">
import { useVirtualizer } from '@tanstack/vue-virtual'
import { routes, type ChangeLine } from '@spoor/contract'
import { difference } from '@spoor/core'
import { useLocalStorage } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { call } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { dayAndTime } from '../value/time.ts'
import BeforeAfter from '../value/BeforeAfter.vue'
import { differenceWords } from '../value/words.ts'
import { usePages } from './saves-list.ts'

/** The scope change by change: one field of one record a line. */
export interface Props {
  scope: string
  version: number
  names: NamedVocabulary
  openId: string | null
}
const props = defineProps<Props>()
const emit = defineEmits<{ open: [saveId: string] }>()
const scroller = ref<HTMLElement | null>(null)
const oldestFirst = useLocalStorage('spoor.changes.oldest-first', false)
const {
  items: lines,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<ChangeLine>(
  computed(() => `${props.version} ${oldestFirst.value} ${props.scope}`),
  async (after, signal) => {
    const query = { scope: props.scope, oldestFirst: oldestFirst.value ? ('1' as const) : ('0' as const), ...(after === undefined ? {} : { after }) } // prettier-ignore
    const page = await call(routes.listChanges, { query, signal })
    return { items: page.lines, next: page.next }
  },
)
const virtual = useVirtualizer(
  computed(() => ({
    count: lines.value.length,
    getScrollElement: () => scroller.value,
    estimateSize: () => 28,
    overscan: 12,
  })),
)
const visible = computed(() => virtual.value.getVirtualItems().flatMap((item) => {
  const line = lines.value[item.index]
  return line ? [{ item, line }] : []
})) // prettier-ignore
watch(() => virtual.value.getVirtualItems().at(-1)?.index, (last) => last !== undefined && last > lines.value.length - 30 && void more()) // prettier-ignore
</script>

<template>
  <ProblemNote v-if="problem && problem.code !== 'bad-scope'" :problem="problem" class="note" />
  <div
    ref="scroller"
    class="rows"
    :class="{ stale }"
    :aria-busy="loading"
    role="table"
    aria-label="Changes"
    tabindex="0"
  >
    <div class="line head" role="row">
      <span role="columnheader" :aria-sort="oldestFirst ? 'ascending' : 'descending'"
        ><button class="plain sort" @click="oldestFirst = !oldestFirst">
          {{ oldestFirst ? 'oldest first' : 'newest first' }}
        </button></span
      >
      <span role="columnheader">who</span><span role="columnheader">record</span><span role="columnheader">field</span
      ><span role="columnheader">before and after</span><span role="columnheader">difference</span>
    </div>
    <div :style="{ height: `${virtual.getTotalSize()}px`, position: 'relative' }" role="rowgroup">
      <div
        v-for="{ item, line } in visible"
        :key="`${line.saveId} ${line.change.fieldId}`"
        class="line"
        :class="{ open: line.saveId === openId }"
        :style="{ transform: `translateY(${item.start}px)` }"
        role="row"
      >
        <span class="mono" role="cell"
          ><button class="plain time" :aria-label="`Open save ${line.saveId}`" @click="emit('open', line.saveId)">
            {{ dayAndTime(line.at) }}
          </button></span
        >
        <span role="cell"><ActorGlyph :kind="line.actor.kind" /> {{ line.actor.knownAs ?? line.actor.name }}</span>
        <span role="cell"
          ><span class="quiet">{{ names.typeTitle(line.typeId) }}</span> <bdi>{{ line.label }}</bdi></span
        >
        <span class="quiet" role="cell">{{ names.fieldName(line.change.fieldId) }}</span>
        <span class="values" role="cell">
          <BeforeAfter :change="line.change" :action="line.action" :base-type="names.baseType(line.change.fieldId)" />
        </span>
        <span class="mono quiet" role="cell">{{
          line.change.masked || line.action !== 'change'
            ? ''
            : differenceWords(difference(line.change.before, line.change.after, names.baseType(line.change.fieldId)))
        }}</span>
      </div>
    </div>
    <p v-if="loading && lines.length === 0" class="state quiet">Reading the ledger …</p>
    <slot v-else-if="!problem && lines.length === 0" name="empty" />
    <p v-if="next !== null && lines.length > 0 && loading" class="quiet more">Reading more …</p>
  </div>
</template>

<style scoped>
.note {
  margin: 10px 18px;
}
.rows {
  flex: 1;
  overflow: auto;
  min-height: 0;
  background: var(--ground);
}
.line {
  position: absolute;
  inset: 0 0 auto;
  display: grid;
  grid-template-columns: 118px 150px minmax(140px, 190px) 120px minmax(180px, 1fr) 132px;
  column-gap: 10px;
  align-items: center;
  height: 28px;
  padding: 0 14px 0 18px;
  font-size: 13px;
  white-space: nowrap;
  background: var(--panel);
  border-bottom: 1px solid var(--line-soft);
}
.line > * {
  overflow: hidden;
  text-overflow: ellipsis;
}
.head {
  position: sticky;
  top: 0;
  z-index: 1;
  color: var(--soft);
  background: var(--raised);
}
.sort,
.time {
  color: var(--pine);
}
.open {
  background: var(--pine-wash);
  box-shadow: inset 3px 0 0 var(--pine);
}
.values :deep(.value) {
  margin-right: 12px;
}
.state {
  padding: 60px;
  text-align: center;
}
.more {
  padding: 8px 18px;
}
</style>
