<script setup lang="ts">
import { changeSorts, routes, type ChangeLine, type ChangeSort, type Reference } from '@spoor/contract'
import { difference, grouped } from '@spoor/core'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import ColumnHeads from '../frame/ColumnHeads.vue'
import type { ListLayout } from '../frame/layout.ts'
import { useOrder } from '../frame/order.ts'
import OrderNote from '../frame/OrderNote.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useRows } from '../frame/rows.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { labelsOf } from '../value/labels.ts'
import { dayAndTime } from '../value/time.ts'
import ValueText from '../value/ValueText.vue'
import { differenceWords } from '../value/words.ts'
import type { ChangeColumn } from './columns.ts'
import { usePages } from './saves-list.ts'

/** The scope change by change: one field of one record a line. */
export interface Props {
  scope: string
  version: number
  names: NamedVocabulary
  openId: string | null
  /** Changes in scope; negative while nobody knows. */
  changes: number
  layout: ListLayout<ChangeColumn>
}
const props = defineProps<Props>()
const emit = defineEmits<{ open: [saveId: string] }>()
const scroller = ref<HTMLElement | null>(null)
const { order, only, refused, press, reset } = useOrder(
  changeSorts,
  computed(() => props.changes),
)
const references = ref<Reference[]>([])
const labelOf = computed(() => labelsOf(references.value))
const {
  items: lines,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<ChangeLine>(
  computed(() => `${props.version} ${order.value.by} ${order.value.descending} ${props.scope}`),
  async (after, signal) => {
    const query = {
      scope: props.scope,
      sort: order.value.by as ChangeSort,
      descending: order.value.descending ? ('1' as const) : ('0' as const),
      ...(after === undefined ? {} : { after }),
    }
    const page = await call(routes.listChanges, { query, signal })
    references.value = after === undefined ? page.references : [...references.value, ...page.references]
    return { items: page.lines, next: page.next }
  },
)
const { height, visible } = useRows(lines, scroller, more)

function differenceIn({ change, action }: ChangeLine): string {
  return change.masked || change.erased || action !== 'change'
    ? ''
    : differenceWords(difference(change.before, change.after, props.names.baseType(change.fieldId)))
}
const sides = { before: 'create', after: 'delete' } as const
</script>

<template>
  <ProblemNote v-if="problem && problem.code !== 'bad-scope'" :problem="problem" class="note">
    <button v-if="problem.code === 'too-many-to-sort'" class="plain mend" @click="reset">Show the newest first</button>
  </ProblemNote>
  <div
    ref="scroller"
    class="rows"
    :class="{ stale }"
    :aria-busy="loading"
    role="table"
    aria-label="Changes"
    tabindex="0"
    :style="{ '--columns': layout.template.value, '--least': `${layout.least.value + 40}px` }"
  >
    <ColumnHeads
      class="line head"
      :layout="layout"
      :order="order"
      :sortable="changeSorts"
      :only="only"
      @order="press"
      @refused="refused = true"
    />
    <OrderNote v-if="refused" :words="only" @close="refused = false" />
    <div :style="{ height: `${height}px`, position: 'relative' }" role="rowgroup">
      <div
        v-for="{ start, row: line } in visible"
        :key="`${line.saveId} ${line.change.fieldId}`"
        class="line"
        :class="{ open: line.saveId === openId }"
        :style="{ transform: `translateY(${start}px)` }"
        role="row"
      >
        <template v-for="{ id } in layout.shown.value" :key="id">
          <span v-if="id === 'time'" class="mono" role="cell"
            ><button class="plain time" :aria-label="`Open save ${line.saveId}`" @click="emit('open', line.saveId)">
              {{ dayAndTime(line.at) }}
            </button></span
          >
          <span v-else-if="id === 'who'" role="cell"
            ><ActorGlyph :kind="line.actor.kind" /> {{ line.actor.knownAs ?? line.actor.name }}</span
          >
          <span v-else-if="id === 'record'" role="cell" :title="line.label"
            ><span class="quiet">{{ names.typeTitle(line.typeId) }}</span> <bdi>{{ line.label }}</bdi></span
          >
          <span v-else-if="id === 'field'" class="quiet" role="cell">{{ names.fieldName(line.change.fieldId) }}</span>
          <span v-else-if="id === 'before' || id === 'after'" role="cell"
            ><ValueText
              v-if="line.action !== sides[id]"
              :value="line.change[id]"
              :base-type="names.baseType(line.change.fieldId)"
              :side="id"
              :cut="line.change[`${id}Cut`]"
              :masked="line.change.masked"
              :erased="line.change.erased"
              :label="labelOf(line.change.fieldId, line.change[id])"
          /></span>
          <span v-else-if="id === 'difference'" class="mono quiet" role="cell">{{ differenceIn(line) }}</span>
          <span v-else-if="id === 'channel'" class="quiet" role="cell">{{ line.channel }}</span>
          <span v-else class="quiet" role="cell" :title="line.reason ?? ''">{{ line.reason ?? '' }}</span>
        </template>
      </div>
    </div>
    <p v-if="loading && lines.length === 0" class="state quiet">Reading the ledger …</p>
    <slot v-else-if="!problem && lines.length === 0" name="empty" />
    <p v-if="next !== null" class="paper-only">
      The first {{ grouped(lines.length) }} changes. More are in this scope; take them out as a file.
    </p>
    <p v-if="next !== null && lines.length > 0 && loading" class="quiet more">Reading more …</p>
  </div>
</template>

<style scoped src="../frame/rows.css"></style>
<style scoped>
.note {
  margin: 10px 18px;
}
.mend,
.time {
  color: var(--pine);
}
.open {
  background: var(--pine-wash);
  box-shadow: inset 3px 0 0 var(--pine);
}
</style>
