<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import { useIntervalFn, watchDebounced } from '@vueuse/core'
import { routes, type Reference, type StandingPage } from '@spoor/contract'
import { capitalised, counted } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { call } from '../api/client.ts'
import { usePages } from '../changes/saves-list.ts'
import ColumnChooser from '../frame/ColumnChooser.vue'
import ColumnHeads from '../frame/ColumnHeads.vue'
import { useLayout, type Column } from '../frame/layout.ts'
import PickList from '../frame/PickList.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { usePulse } from '../frame/pulse.ts'
import { useRows } from '../frame/rows.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { labelsOf } from '../value/labels.ts'
import { recordLink } from './link.ts'
import StandingCell from './StandingCell.vue'

/** The records of a type as they stand: one line a record, one column a field. */
const route = useRoute()
const router = useRouter()
const pulse = usePulse()
const names = useVocabulary(ref({}))
const typeId = computed(() => Number(route.params['typeId']))
const type = computed(() => names.value.types.find((one) => one.id === typeId.value))
const types = computed(() =>
  names.value.types
    .filter((one) => names.value.fields.some((field) => field.typeId === one.id))
    .map((one) => ({ value: one.id, label: capitalised(one.plural) })),
)

/** More would be narrower than what they hold. */
const shownAtFirst = 7
const columns = computed<Column<string>[]>(() => [
  { id: 'record', title: 'Record', width: 190, fixed: true },
  ...names.value.fields
    .filter((field) => field.typeId === typeId.value)
    .map((field, at) => ({
      id: `f${field.id}`,
      title: capitalised(field.name),
      width: 130,
      hidden: at >= shownAtFirst || field.masked,
    })),
])
const layout = useLayout(() => `records-${typeId.value}` as const, columns)
const fieldIds = computed(() => layout.shown.value.flatMap(({ id }) => (id === 'record' ? [] : [Number(id.slice(1))])))

const words = ref(String(route.query['words'] ?? ''))
watchDebounced(words, (now) => void router.replace({ query: now.trim() === '' ? {} : { words: now.trim() } }), {
  debounce: 200,
})
const asked = computed(() => String(route.query['words'] ?? ''))

type Line = StandingPage['records'][number]
type Held = Line['values'][number]
const references = ref<Reference[]>([])
const coming = ref(0)
const behind = ref(0)
const labelOf = computed(() => labelsOf(references.value))
/** Rises when the reader takes in what came since. */
const taken = ref(0)
const {
  items: lines,
  next,
  loading,
  stale,
  problem,
  more,
} = usePages<Line>(
  computed(() => `${typeId.value} ${fieldIds.value.join(',')} ${asked.value} ${taken.value}`),
  async (after, signal) => {
    if (fieldIds.value.length === 0) return { items: [], next: null }
    const query = {
      typeId: String(typeId.value),
      fields: fieldIds.value.join(','),
      ...(asked.value === '' ? {} : { words: asked.value }),
      ...(after === undefined ? {} : { after }),
    }
    const page = await call(routes.listStanding, { query, signal })
    references.value = after === undefined ? page.references : [...references.value, ...page.references]
    coming.value = page.coming
    behind.value = page.behind
    return { items: page.records, next: page.next }
  },
)
const scroller = ref<HTMLElement | null>(null)
const { height, visible } = useRows(lines, scroller, more)

/** Nothing moves under the eye of somebody who has gone down the list. */
watch(
  () => pulse.pulse?.latestSave,
  () => (scroller.value?.scrollTop ?? 0) === 0 && taken.value++,
)

useIntervalFn(() => (behind.value > 0 || coming.value > 0) && taken.value++, 2000)

function show(id: unknown) {
  words.value = ''
  void router.push({ name: 'standing', params: { typeId: String(id) } })
}

/** Of a column that was just put there. */
const nothingYet: Held = { fieldId: 0, value: null, unknown: 'unseen', cut: false, found: false, since: null }
const heldIn = (line: Line, column: string): Held =>
  line.values.find((one) => `f${one.fieldId}` === column) ?? nothingYet
</script>

<template>
  <main class="stand">
    <header>
      <h1>
        <PickList
          :value="type ? typeId : undefined"
          :options="types"
          show-search
          option-filter-prop="label"
          aria-label="Record type"
          :dropdown-match-select-width="false"
          @change="show"
        />
        <span> as they stand now</span>
      </h1>
      <Input
        v-model:value="words"
        class="find"
        allow-clear
        aria-label="Only records whose name holds these words"
        placeholder="Only records whose name holds …"
      />
      <ColumnChooser :layout="layout" />
      <RouterLink class="quiet" :to="{ name: 'records' }">Find one record</RouterLink>
    </header>
    <p v-if="behind > 0" class="coming" role="status">
      How records stand is being put together from the ledger: {{ counted(behind, 'save') }} to go.
    </p>
    <p v-if="coming > 0" class="coming" role="status">
      {{ counted(coming, 'record') }} that were taken in as found are being put here; they follow within moments.
    </p>
    <ProblemNote v-if="problem" :problem="problem" />
    <div
      ref="scroller"
      class="rows"
      :class="{ stale }"
      :aria-busy="loading"
      role="table"
      aria-label="Records as they stand"
      tabindex="0"
      :style="{ '--columns': layout.template.value, '--least': `${layout.least.value + 40}px` }"
    >
      <ColumnHeads class="line head" :layout="layout" :order="{ by: '', descending: false }" :sortable="[]" only="" />
      <div :style="{ height: `${height}px`, position: 'relative' }" role="rowgroup">
        <div
          v-for="{ start, row: line } in visible"
          :key="line.key"
          class="line"
          :style="{ transform: `translateY(${start}px)` }"
          role="row"
        >
          <template v-for="{ id } in layout.shown.value" :key="id">
            <span v-if="id === 'record'" role="rowheader" :title="line.label"
              ><RouterLink :to="recordLink({ typeId, key: line.key })"
                ><bdi>{{ line.label }}</bdi></RouterLink
              ></span
            >
            <StandingCell
              v-else
              :held="heldIn(line, id)"
              :base-type="names.baseType(Number(id.slice(1)))"
              :label="labelOf(Number(id.slice(1)), heldIn(line, id).value)"
            />
          </template>
        </div>
      </div>
      <p v-if="loading && lines.length === 0" class="state quiet">Reading records …</p>
      <p v-else-if="!problem && lines.length === 0 && asked !== ''" class="state">
        No record of these has “{{ asked }}” in its name.
      </p>
      <p v-else-if="!problem && lines.length === 0 && behind === 0" class="state">
        Nothing is known of any such record yet. What they hold is taken in when a plan that tracks them is put in
        force.
      </p>
      <p v-if="next !== null" class="paper-only">
        The first {{ counted(lines.length, 'record') }}, by name. There are more.
      </p>
    </div>
    <p class="legend quiet">
      <span class="swatch" aria-hidden="true" /> not known: hold the pointer over it for the reason. Where a value came
      from stands there, too.
    </p>
  </main>
</template>

<style scoped src="../frame/rows.css"></style>
<style scoped>
.stand {
  display: flex;
  flex-direction: column;
  min-height: 0;
  height: 100%;
}
header {
  display: flex;
  align-items: center;
  gap: 14px;
  padding: 10px 18px;
  border-bottom: 1px solid var(--line);
  background: var(--panel);
}
h1 {
  font-size: 16px;
  font-weight: 400;
  display: flex;
  align-items: center;
  gap: 8px;
}
.find {
  max-width: 260px;
  margin-left: auto;
}
.coming {
  padding: 6px 18px;
}
.swatch {
  background: repeating-linear-gradient(135deg, var(--line-soft) 0 3px, transparent 3px 7px);
  display: inline-block;
  width: 34px;
  height: 12px;
  vertical-align: -2px;
}
.legend {
  padding: 6px 18px;
  font-size: 12px;
  border-top: 1px solid var(--line-soft);
}
</style>
