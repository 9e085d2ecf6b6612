<script setup lang="ts">
import { routes } from '@spoor/contract'
import {
  counted,
  dimensions,
  dimensionText,
  measures,
  measureWords,
  mostRows,
  ofDifferences,
  partOfDimension,
  scopeOfMember,
  type CellWorld,
  type Dimension,
  type PivotWork,
  type Scope,
} from '@spoor/core'
import { computed, defineAsyncComponent } from 'vue'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useSession } from '../session/session.ts'
import { readerZone } from '../value/time.ts'
import { visible } from '../value/words.ts'
import ChoicePart from '../scope/ChoicePart.vue'
import { figureText } from './figure-text.ts'
import { useWorkedOut, type WorkProps } from './worked-out.ts'

/** Counts or amounts of the changes in a scope by one or two dimensions; each figure leads to its saves. */
export type Props = WorkProps<PivotWork>
const props = defineProps<Props>()
const emit = defineEmits<{ put: [work: PivotWork]; show: [scope: Scope] }>()
const PivotChart = defineAsyncComponent(() => import('./PivotChart.vue'))

const { data, error, isPending, stale } = useWorkedOut({ props, work: () => props.work }, (query, signal) =>
  call(routes.readPivot, { query, signal }),
)
const put = (change: Partial<PivotWork>) => emit('put', { ...props.work, ...change })

/** What fields of the records held that the scope is about, of all where it says nothing of that. */
const session = useSession()
const heldWords = computed(() => {
  if (!session.seesAll) return []
  const { what } = props.scope
  const { types, fields } = props.names
  const named = what && !what.exclude ? what : undefined
  const own = named && [
    ...named.types,
    ...fields.filter(({ id }) => named.fields.includes(id)).map(({ typeId }) => typeId),
  ]
  const ofTypes = types.filter(({ id }) => !own || own.includes(id))
  // Of lines also what the records held whose lines they are.
  const meant = new Set(ofTypes.flatMap(({ id, parentTypeId }) => (parentTypeId === null ? [id] : [id, parentTypeId])))
  return fields
    .filter(({ id, typeId }) => meant.has(typeId) && !props.names.plan(id).masked)
    .map((field) => {
      const value: Dimension = `held.${field.id}`
      return { value, text: dimensionText(value, `${field.name} of ${props.names.type(field.typeId)}`) }
    })
})
const byWords = computed(() => [
  ...dimensions.map((value: Dimension) => ({ value, text: dimensionText(value) })),
  ...heldWords.value,
])
const across = computed(() => [{ value: null, text: 'nothing else' }, ...byWords.value])
const measured = measures.map((value) => ({ value, text: measureWords[value] }))
const tops = computed(() =>
  [...new Set([5, 10, 20, 50, 100, mostRows, props.work.top])]
    .sort((a, b) => a - b)
    .map((value) => ({ value, text: `the first ${value}` })),
)
const orders = [
  { value: 'most' as const, text: 'the most first' },
  { value: 'least' as const, text: 'the least first' },
  { value: 'name' as const, text: 'by name' },
]
const empties = [
  { value: true, text: 'with empty ones' },
  { value: false, text: 'without empty ones' },
]
const forms = [
  { value: 'table' as const, text: 'a table' },
  { value: 'bars' as const, text: 'bars' },
  { value: 'lines' as const, text: 'lines' },
  { value: 'heat' as const, text: 'a heat map' },
]
function turn() {
  if (props.work.columns) put({ rows: props.work.columns, columns: props.work.rows })
}

const world = computed<CellWorld>(() => ({
  types: props.names.types,
  fields: props.names.fields,
  actors: props.names.actors,
  zone: readerZone,
  nowMs: Date.now(),
}))
/** Undefined stands for all of a row or column. */
function scopeOf(row: number | undefined, column: number | undefined): Scope | null {
  let meant: Scope | null = props.scope
  for (const [dimension, at, members, more] of [
    [props.work.rows, row, data.value!.rows, data.value!.moreRows],
    [props.work.columns, column, data.value!.columns, data.value!.moreColumns],
  ] as const) {
    if (meant === null || dimension === null || at === undefined) continue
    const member = members[at]
    const others = more === 0 ? members.filter((one) => one !== member).map(({ value }) => value) : undefined
    meant = member ? scopeOfMember(meant, dimension, member.value, world.value, others) : null
  }
  return meant
}
function press(row: number | undefined, column: number | undefined) {
  const meant = isRest(row, column) ? null : scopeOf(row, column)
  if (meant) emit('show', meant)
  else if (isRest(row, column)) put({ top: mostRows })
}
const isRest = (row: number | undefined, column: number | undefined) =>
  row === data.value!.rows.length || (props.work.columns !== null && column === data.value!.columns.length)
/** Whether a row or column can be said by itself; asked once for each, since a zone's days are slow to tell. */
const canSay = computed(() => ({
  rows: (data.value?.rows ?? []).map((_, row) => scopeOf(row, undefined) !== null),
  columns: (data.value?.columns ?? []).map((_, column) => scopeOf(undefined, column) !== null),
}))
function canPress(row: number | undefined, column: number | undefined): boolean {
  if (isRest(row, column)) return props.work.top < mostRows
  const [rowSaid, columnSaid] = [
    row === undefined || canSay.value.rows[row]!,
    column === undefined || canSay.value.columns[column]!,
  ]
  if (!rowSaid || !columnSaid) return false
  const { rows, columns } = props.work
  // Two things of one part of the sentence may be said each by itself and not together.
  const isOnePart = columns !== null && partOfDimension(rows) === partOfDimension(columns)
  return !isOnePart || row === undefined || column === undefined || scopeOf(row, column) !== null
}
const told = (figure: string | null) => figureText(figure, props.work.measure, data.value!.total)
const unusual = computed(
  () => new Map((data.value?.unusual ?? []).map((one) => [`${one.row} ${one.column}`, one.expected])),
)
const isEmpty = computed(() => data.value !== undefined && data.value.rows.length === 0)
const rowNames = computed(() => [
  ...(data.value?.rows ?? []).map(({ name }) => visible(name)),
  ...(data.value && data.value.moreRows > 0 ? [`${counted(data.value.moreRows, 'other')}`] : []),
])
const columnNames = computed(() => [
  ...(data.value?.columns ?? []).map(({ name }) => visible(name)),
  ...(data.value && data.value.moreColumns > 0 ? [`${counted(data.value.moreColumns, 'other')}`] : []),
])
function titleOf(row: number | undefined, column: number | undefined): string {
  const usual = unusual.value.get(`${row} ${column}`)
  if (usual !== undefined)
    return `${usual} would be expected if ${rowNames.value[row!]} were as all others are: far more than that`
  if (!canPress(row, column)) return 'One sentence cannot say both, so that its saves cannot be shown by themselves'
  return isRest(row, column) ? 'Show more of them' : 'Show the saves'
}
</script>

<template>
  <div class="form" :class="{ stale }">
    <p class="sentence" role="group" aria-label="What the pivot shows">
      The <ChoicePart :value="work.measure" :choices="measured" @choose="(measure) => put({ measure })" /> by
      <ChoicePart
        :value="work.rows"
        :choices="byWords.filter((one) => one.value !== work.columns)"
        @choose="(rows) => put({ rows })"
      />
      and
      <ChoicePart
        :value="work.columns"
        :choices="across.filter((one) => one.value !== work.rows)"
        @choose="(columns) => put({ columns })"
      />, <ChoicePart :value="work.top" :choices="tops" @choose="(top) => put({ top })" />,
      <ChoicePart :value="work.order" :choices="orders" @choose="(order) => put({ order })" />,
      <ChoicePart :value="work.empty" :choices="empties" @choose="(empty) => put({ empty })" />, as
      <ChoicePart :value="work.shown" :choices="forms" @choose="(shown) => put({ shown })" />.
      <button v-if="work.columns" class="plain more" @click="turn">Turn it round</button>
    </p>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="isPending" class="quiet">Counting …</p>
    <p v-else-if="isEmpty" class="quiet">
      Nothing in this scope to count. Remove a part of the sentence above to see more.
    </p>
    <template v-else-if="data">
      <PivotChart
        v-if="work.shown !== 'table'"
        :shown="work.shown"
        :measure="work.measure"
        :rows="rowNames"
        :columns="columnNames"
        :answer="data"
        @press="press"
      />
      <p v-if="data.without > 0" class="quiet note">
        {{ counted(data.without, 'change') }} in this scope {{ data.without === 1 ? 'has' : 'have' }} no difference,
        because something came or went or because it is no number, and {{ data.without === 1 ? 'is' : 'are' }} left out.
      </p>
      <p v-if="data.doubt" class="quiet note">{{ data.doubt }}</p>
      <p v-if="unusual.size > 0" class="quiet note">
        What is far above what its row and its column would make of it stands in plum; pointed at, it says how much that
        would be.
      </p>
      <div class="scroll">
        <table>
          <thead>
            <tr>
              <th scope="col">{{ data.rowsBy }}</th>
              <th v-for="(name, column) in columnNames" :key="column" class="figure" scope="col">
                <button
                  v-if="canPress(undefined, column)"
                  class="plain head"
                  :title="titleOf(undefined, column)"
                  @click="press(undefined, column)"
                >
                  {{ name }}
                </button>
                <template v-else>{{ name }}</template>
              </th>
              <th class="figure" scope="col">{{ work.columns ? 'in all' : measureWords[work.measure] }}</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(name, row) in rowNames" :key="row">
              <th scope="row">
                <button
                  v-if="canPress(row, undefined)"
                  class="plain name"
                  :title="titleOf(row, undefined)"
                  @click="press(row, undefined)"
                >
                  {{ name }}
                </button>
                <template v-else>{{ name }}</template>
              </th>
              <td v-for="(figure, column) in data.cells[row]" :key="column" class="figure mono">
                <button
                  v-if="figure !== null && canPress(row, column)"
                  class="plain"
                  :class="{ stands: unusual.has(`${row} ${column}`) }"
                  :title="titleOf(row, column)"
                  @click="press(row, column)"
                >
                  {{ told(figure) }}
                </button>
                <span v-else-if="figure !== null" :title="titleOf(row, column)">{{ told(figure) }}</span>
              </td>
              <td class="figure mono all">
                <button
                  v-if="data.rowTotals[row] !== null && canPress(row, undefined)"
                  class="plain"
                  @click="press(row, undefined)"
                >
                  {{ told(data.rowTotals[row] ?? null) }}
                </button>
                <template v-else>{{ told(data.rowTotals[row] ?? null) }}</template>
              </td>
            </tr>
          </tbody>
          <tfoot>
            <tr>
              <th scope="row">in all</th>
              <td v-for="(figure, column) in data.columnTotals" :key="column" class="figure mono all">
                <button
                  v-if="figure !== null && canPress(undefined, column)"
                  class="plain"
                  @click="press(undefined, column)"
                >
                  {{ told(figure) }}
                </button>
                <template v-else>{{ told(figure) }}</template>
              </td>
              <td class="figure mono all">
                <button class="plain" @click="press(undefined, undefined)">{{ told(data.total) }}</button>
              </td>
            </tr>
          </tfoot>
        </table>
      </div>
      <p class="quiet note">
        Days and hours are those of {{ readerZone }}.
        <template v-if="ofDifferences.has(work.measure)"
          >A percentile is the nearest amount that really occurred; a median of an even number lies between
          two.</template
        >
      </p>
    </template>
  </div>
</template>

<style scoped src="../scope/sentence.css"></style>
<style scoped src="./figures.css"></style>
