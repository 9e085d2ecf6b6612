<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { useEventListener, useNow, watchDebounced } from '@vueuse/core'
import DatePicker from 'ant-design-vue/es/date-picker'
import Switch from 'ant-design-vue/es/switch'
import type { Dayjs } from 'dayjs'
import { routes, type Save } from '@spoor/contract'
import { counted, differences, fieldsOf, savesBetween, stateAt, trailOf, type Holding } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { onBeforeRouteLeave, useRoute, useRouter } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import SavePane from '../changes/SavePane.vue'
import { useRevert } from '../corrections/revert.ts'
import GatherInCase from '../cases/GatherInCase.vue'
import { besideQuery } from '../evidence/beside.ts'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { useRecent } from '../find/recent.ts'
import { usePulse } from '../frame/pulse.ts'
import { isWriting } from '../frame/writing.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import ActorGlyph from '../value/ActorGlyph.vue'
import { labelsOf } from '../value/labels.ts'
import { dayAndTime, dayOnly, fromCalendar, fullTime, readerZone, shortTime, toCalendar } from '../value/time.ts'
import BesidePicker from './BesidePicker.vue'
import RecordLanes from './RecordLanes.vue'
import SavesBelow from './SavesBelow.vue'
import { useBelow } from './below.ts'
import { useBeside } from './beside.ts'
import { useCameFrom } from './came-from.ts'
import HeldLong from './HeldLong.vue'
import { recordLink } from './link.ts'
import type { Range } from './scale.ts'
import { heldNow, holdingShown, lanesOf, timesOf } from './story.ts'

const route = useRoute()
const router = useRouter()
const pulse = usePulse()
const typeId = computed(() => Number(route.params['typeId']))
const key = computed(() => String(route.query['key'] ?? ''))
const { data, error, isPending } = useQuery({
  queryKey: ['record-story', typeId, key, computed(() => pulse.pulse?.latestSave)],
  queryFn: () => call(routes.readStoryOfRecord, { query: { typeId: String(typeId.value), key: key.value } }),
  placeholderData: (before) =>
    before?.record.typeId === typeId.value && before.record.key === key.value ? before : undefined,
})
const names = useVocabulary(ref({}))

const session = useSession()
const recent = useRecent(() => session.person?.id)
watch(
  () => data.value?.record,
  (record) => record && recent.note({ typeId: record.typeId, key: record.key, label: record.label }),
  { immediate: true },
)

const now = useNow({ interval: 60_000 })
const story = computed(() => data.value ?? { saves: [], coverage: [], found: [] })
const lastId = computed(() => data.value?.saves.at(-1)?.id)
const present = useQuery({
  queryKey: ['record-present', typeId, computed(() => data.value?.record.key), lastId],
  queryFn: () =>
    call(routes.readPresentRecord, { query: { typeId: String(typeId.value), key: data.value!.record.key } }),
  enabled: computed(() => data.value !== undefined && !data.value.partial && !data.value.record.deleted),
  retry: false,
})
const held = computed(() =>
  present.data.value ? heldNow(story.value, present.data.value) : { found: [], unexplained: [] },
)
const trail = computed(() => trailOf(story.value, held.value.found))
const fieldIds = computed(() => fieldsOf(story.value))
const lanes = computed(() => lanesOf(trail.value, fieldIds.value))

/** Another record of the same type, whose moment B stands beside this one's moment A. */
const beside = useBeside(typeId, fieldIds)
const other = beside.story
const zoom = ref<Range | null>(null)
const saves = computed(() => data.value?.saves ?? [])
const saveTimes = computed(() => timesOf(saves.value))
const people = computed(() => new Set(saves.value.map((save) => save.actor.knownAs ?? save.actor.name)).size)
const labelOf = computed(() => labelsOf([...(data.value?.references ?? []), ...(other.value?.references ?? [])]))
const shown = (holding: Holding, fieldId: number) =>
  holdingShown(holding, names.value.baseType(fieldId), (held) => labelOf.value(fieldId, held))

/** From a little before the first save to now. */
const whole = computed<Range>(() => {
  const toMs = now.value.getTime()
  const tracked = story.value.coverage.map(({ from }) => Date.parse(from))
  const firsts = [saveTimes.value[0], beside.times.value[0]].filter((ms) => ms !== undefined)
  const first = firsts.length > 0 ? Math.min(...firsts) : Math.min(...tracked, toMs - 86_400_000)
  const room = Math.max(60_000, (toMs - first) * 0.06)
  return { fromMs: first - room, toMs }
})

const a = ref(0)
const b = ref(0)
/** An instant of the screen as the trail writes it: up to and with everything of its millisecond. */
const instantOf = (ms: number) => new Date(ms).toISOString().replace('Z', '999Z')
watch(
  () => [data.value?.record.key, saveTimes.value.length] as const,
  ([shownKey], before) => {
    if (shownKey === undefined || before?.[0] === shownKey) return
    const given = (name: string) => Date.parse(String(route.query[name] ?? ''))
    const last = saveTimes.value.at(-1) ?? now.value.getTime()
    b.value = Number.isFinite(given('b')) ? given('b') : last
    a.value = Number.isFinite(given('a')) ? given('a') : (saveTimes.value.at(-2) ?? last - 60_000)
  },
  { immediate: true },
)
// Whoever has gone on, or is about to, takes no moments along: putting them in the address would call them back.
const leaving = ref(false)
onBeforeRouteLeave(() => {
  leaving.value = true
})
watchDebounced(
  [a, b],
  () =>
    route.name === 'record' &&
    !leaving.value &&
    void router.replace({
      query: { ...route.query, a: new Date(a.value).toISOString(), b: new Date(b.value).toISOString() },
    }),
  { debounce: 400 },
)

const atA = computed(() => stateAt(trail.value, fieldIds.value, instantOf(a.value)))
const atB = computed(() => stateAt(beside.trail.value ?? trail.value, fieldIds.value, instantOf(b.value)))
const atNow = computed(() => stateAt(trail.value, fieldIds.value, instantOf(now.value.getTime())))
const differing = computed(() => differences(atA.value, atB.value))
const certain = computed(() => differing.value.filter((one) => one.differs))
const onlyDiffering = ref(false)
const rows = computed(() => {
  const differ = new Map(differing.value.map((one) => [one.fieldId, one.differs]))
  return fieldIds.value
    .filter((id) => !onlyDiffering.value || differ.get(id) === true)
    .map((id) => ({
      id,
      differs: differ.get(id) === true,
      held: [atA.value.get(id)!, atB.value.get(id)!, ...(beside.trail.value ? [] : [atNow.value.get(id)!])],
    }))
})
const doer = (save: Save) => save.actor.knownAs ?? save.actor.name
const how = computed(() =>
  certain.value.map(({ fieldId }) => ({
    fieldId,
    saves: savesBetween(saves.value, fieldId, instantOf(a.value), instantOf(b.value)),
  })),
)

const { below, open: openBelow } = useBelow(
  typeId,
  computed(() => data.value && [data.value.record.key, ...data.value.record.formerKeys]),
  names,
  computed(() => data.value?.partial ?? true),
)
const listedBelow = ref<string | null>(null)
const isListed = computed(() => below.value.find((one) => one.id === listedBelow.value))
function listBelow(id: string) {
  listedBelow.value = listedBelow.value === id ? null : id
  openBelow(id)
}

const picked = ref<number | null>(null)
/** Unless somebody picked one, the field that moved most. */
const pickedLane = computed(() => {
  const most = Math.max(...lanes.value.map((lane) => lane.segments.length))
  return lanes.value.find((lane) =>
    picked.value === null ? lane.segments.length === most : lane.fieldId === picked.value,
  )
})
const gaps = computed(() => (data.value?.coverage ?? []).filter((spell) => spell.to !== null))

const neighbours = computed(() => data.value && useCameFrom().around(data.value.record))
useEventListener('keydown', (event) => {
  if (isWriting(event.target) || event.ctrlKey || event.metaKey || event.altKey) return
  const to = event.key === 'n' ? neighbours.value?.after : event.key === 'p' ? neighbours.value?.before : undefined
  if (to) void router.push(recordLink(to))
})

/** Fields that hold something else now than they held at A, and of which both are known. */
const movedSinceA = computed(() =>
  other.value || data.value?.record.deleted
    ? []
    : differences(atA.value, atNow.value).flatMap(({ fieldId, a: then, b: present_, differs }) =>
        differs && then.state === 'value' && present_.state === 'value' ? [fieldId] : [],
      ),
)
const { draft, busy: drafting, problem: draftProblem } = useRevert()
const setBack = (ids: readonly number[]) =>
  draft({
    past: { typeId: typeId.value, at: instantOf(a.value), fieldIds: [...ids], keys: [data.value!.record.key] },
  })
const mayRevert = computed(() => session.may('corrections.draft') && data.value?.partial === false)

const deletion = computed(() =>
  data.value?.record.deleted && mayRevert.value ? saves.value.findLast(({ action }) => action === 'delete') : undefined,
)

/** Its changes as a pack, with what it held at the two moments that stand on the screen. */
const evidenceLink = computed(() => ({
  path: '/evidence/making',
  query: {
    record: `t${typeId.value}:${data.value?.record.key}`,
    ...(other.value || data.value?.partial
      ? {}
      : besideQuery({
          beside: 'moments',
          typeId: typeId.value,
          key: data.value?.record.key ?? '',
          a: instantOf(a.value),
          b: instantOf(b.value),
        })),
  },
}))

const view = ref<'lanes' | 'versions'>('lanes')
const opened = ref<string | null>(null)
function setMoment(cursor: 'a' | 'b', moment: Dayjs | null) {
  if (!moment) return
  if (cursor === 'a') a.value = fromCalendar(moment)
  else b.value = fromCalendar(moment)
}
/** A version is compared with the one before it. */
function compare(save: Save) {
  const at = Date.parse(save.at)
  b.value = at
  a.value = saveTimes.value.findLast((ms) => ms < at) ?? at - 1
}
const summaryOf = (save: Save) =>
  save.action === 'create'
    ? 'created'
    : save.action === 'delete'
      ? 'deleted'
      : save.changes.map((change) => names.value.fieldName(change.fieldId)).join(', ')
</script>

<template>
  <main v-if="error"><ProblemNote :problem="problemOf(error)" /></main>
  <main v-else-if="isPending || !data"><p class="quiet">Reading the story …</p></main>
  <main v-else class="page">
    <header>
      <span class="quiet">{{ names.typeTitle(data.record.typeId) }}</span>
      <h1>
        <bdi>{{ data.record.label }}</bdi>
      </h1>
      <span class="quiet">
        {{ data.record.deleted ? 'deleted · ' : ''
        }}{{ saves[0]?.action === 'create' ? `since ${dayOnly(saves[0].at)}` : 'older than its trail' }} ·
        <template v-if="saves.length === 0">never changed since it is tracked</template
        ><template v-else
          >{{ counted(saves.length, 'save') }}{{ data.more ? ', the latest ones' : '' }} by
          {{ counted(people, 'name') }}</template
        >
        <template v-if="data.record.formerKeys.length > 0"
          >· had {{ counted(data.record.formerKeys.length, 'other key') }}</template
        >
      </span>
      <a v-if="data.page" :href="data.page" target="_blank" rel="noopener noreferrer">Its page</a>
      <button
        v-if="deletion"
        class="plain link"
        :disabled="drafting"
        title="Drafts and rehearses it, with what went with it; nothing is written yet"
        @click="draft({ changes: [{ saveId: deletion.id }] })"
      >
        Bring it back …
      </button>
      <span class="space" />
      <nav v-if="neighbours" class="neighbours" aria-label="The list you came from">
        <RouterLink v-if="neighbours.before" :to="recordLink(neighbours.before)" title="p">‹ previous</RouterLink>
        <span class="quiet">{{ neighbours.place }} of {{ neighbours.of }}</span>
        <RouterLink v-if="neighbours.after" :to="recordLink(neighbours.after)" title="n">next ›</RouterLink>
      </nav>
      <button class="plain view" :class="{ on: view === 'lanes' }" @click="view = 'lanes'">Lanes</button>
      <button class="plain view" :class="{ on: view === 'versions' }" @click="view = 'versions'">Versions</button>
      <PressPopover v-if="!beside.wanted.value" title="Another record beside it">
        <BesidePicker :type-id="typeId" :besides="data.record.key" @pick="beside.put" />
      </PressPopover>
      <RouterLink :to="{ path: '/changes', query: { record: `t${data.record.typeId}:${data.record.key}` } }"
        >In Changes</RouterLink
      >
      <RouterLink v-if="session.may('packs.make')" :to="evidenceLink">Evidence …</RouterLink>
      <GatherInCase
        v-if="session.may('cases.write')"
        :thing="{ kind: 'record', typeId: data.record.typeId, recordKey: data.record.key }"
      />
    </header>
    <ProblemNote v-if="draftProblem && deletion" :problem="draftProblem" />
    <div class="body">
      <section class="story" aria-label="The story">
        <p v-if="data.partial" class="note">
          You see a part of this record’s saves, so what it held at a moment is not reckoned here.
        </p>
        <template v-if="view === 'lanes'">
          <RecordLanes
            v-model:a="a"
            v-model:b="b"
            v-model:range="zoom"
            :lanes="lanes"
            :save-times="saveTimes"
            :whole="whole"
            :picked="pickedLane?.fieldId ?? null"
            :field-name="names.fieldName"
            :shown="shown"
            :below="below"
            :listed="listedBelow"
            :marks="data.marks"
            @pick="picked = $event"
            @open="opened = $event"
            @list="listBelow"
          />
          <SavesBelow v-if="isListed" :below="isListed" :summary="summaryOf" @open="opened = $event" />
          <template v-if="other">
            <h2>
              <span class="quiet">Beside it:</span> <bdi>{{ other.record.label }}</bdi>
              <span class="quiet">{{ other.record.deleted ? 'deleted' : '' }}</span>
              <RouterLink class="small" :to="recordLink(other.record)">Its own story</RouterLink>
              <button class="plain link small" @click="beside.put(null)">Put it away</button>
            </h2>
            <p v-if="other.partial" class="note">You see a part of its saves, so what it held is not reckoned here.</p>
            <RecordLanes
              v-model:a="a"
              v-model:b="b"
              v-model:range="zoom"
              :lanes="beside.lanes.value"
              :save-times="beside.times.value"
              :whole="whole"
              :picked="pickedLane?.fieldId ?? null"
              :field-name="names.fieldName"
              :shown="shown"
              @pick="picked = $event"
              @open="opened = $event"
            />
          </template>
          <ProblemNote v-else-if="beside.wanted.value && beside.error.value" :problem="problemOf(beside.error.value)"
            ><button class="plain link" @click="beside.put(null)">Go on with this record alone</button></ProblemNote
          >
          <div class="legend quiet">
            <p><span class="hatch" /> unknown: not tracked then, or not changed since it is</p>
            <p v-if="data.found.length > 0">
              <span class="as-found" /> as found when tracking began: known, and nobody’s change
            </p>
            <p v-for="gap in gaps" :key="`${gap.fieldId} ${gap.from}`">
              Tracking of {{ names.fieldName(gap.fieldId) }} ended {{ gap.to && fullTime(gap.to)
              }}{{ gap.because ? `: ${gap.because}` : '' }}.
            </p>
            <HeldLong
              v-if="pickedLane"
              :lane="pickedLane"
              :title="names.fieldName(pickedLane.fieldId)"
              :now-ms="now.getTime()"
              :shown="shown"
            />
          </div>
        </template>
        <ol v-else class="versions">
          <li v-for="save in [...saves].reverse()" :key="save.id" :class="{ on: Date.parse(save.at) === b }">
            <button class="plain when" @click="compare(save)">{{ dayAndTime(save.at) }}</button>
            <span><ActorGlyph :kind="save.actor.kind" /> {{ doer(save) }}</span>
            <span class="what">{{ summaryOf(save) }}</span>
            <bdi class="quiet what">{{ save.reason ? `“${save.reason}”` : save.run ? `run “${save.run}”` : '' }}</bdi>
            <button class="plain link" @click="opened = save.id">Open</button>
          </li>
        </ol>
      </section>
      <aside v-if="opened" class="pane">
        <SavePane :key="opened" :save-id="opened" :names="names" @close="opened = null" @open="opened = $event" />
      </aside>
      <aside v-else class="pane" aria-label="Two moments">
        <table>
          <thead>
            <tr>
              <th class="field">
                <label class="only">only what differs <Switch v-model:checked="onlyDiffering" size="small" /></label>
              </th>
              <th v-for="cursor in ['a', 'b'] as const" :key="cursor">
                {{ cursor.toUpperCase()
                }}<template v-if="other">{{ cursor === 'a' ? ', this one' : ', the other' }}</template>
                <DatePicker
                  size="small"
                  show-time
                  format="D MMM YY HH:mm"
                  :allow-clear="false"
                  :aria-label="`Moment ${cursor.toUpperCase()}, ${readerZone}`"
                  :value="toCalendar(cursor === 'a' ? a : b) as never"
                  @change="setMoment(cursor, $event as never)"
                />
              </th>
              <th v-if="!other">now</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in rows" :key="row.id" :class="{ differs: row.differs }">
              <th scope="row">
                <bdi>{{ names.fieldName(row.id) }}</bdi>
              </th>
              <td v-for="(holding, at) in row.held" :key="at" :title="shown(holding, row.id).text">
                <bdi class="mono" :class="{ words: shown(holding, row.id).isWords }">{{
                  shown(holding, row.id).text
                }}</bdi>
              </td>
            </tr>
          </tbody>
        </table>
        <div class="how">
          <p>
            <b
              >{{
                certain.length === 0
                  ? 'Nothing that is known differs'
                  : `${certain.length} of ${counted(fieldIds.length, 'field')} differ${certain.length === 1 ? 's' : ''}`
              }}
              {{ other ? `between ${data.record.label} at A and ${other.record.label} at B` : 'between A and B' }}.</b
            >
          </p>
          <p v-if="mayRevert && movedSinceA.length > 0" class="back">
            <template v-for="id in movedSinceA.slice(0, 6)" :key="id"
              ><button class="plain link" :disabled="drafting" @click="setBack([id])">
                Set {{ names.fieldName(id) }} back to A</button
              >&ensp;</template
            >
            <button v-if="movedSinceA.length > 1" class="plain link" :disabled="drafting" @click="setBack(movedSinceA)">
              <b>All {{ movedSinceA.length }} back to A …</b>
            </button>
          </p>
          <ProblemNote v-if="draftProblem && !deletion" :problem="draftProblem" />
          <p v-for="one in other ? [] : how" :key="one.fieldId">
            <b>{{ names.fieldName(one.fieldId) }}</b>
            <template v-if="one.saves.length === 0"> changed, and no save in between tells how.</template>
            <template v-for="save in one.saves.slice(-4)" :key="save.id">
              ·
              <button class="plain link" @click="opened = save.id">{{ shortTime(save.at) }}</button>
              by {{ doer(save) }}{{ save.run ? `, run “${save.run}”` : ''
              }}{{ save.reason ? `, “${save.reason}”` : '' }}
            </template>
          </p>
          <p v-for="one in held.unexplained" :key="one.fieldId" class="attention">
            <b>{{ names.fieldName(one.fieldId) }}</b>
            is
            <bdi class="mono">{{ shown({ state: 'value', value: one.now }, one.fieldId).text }}</bdi>
            in the source now, and no save explains it: the trail ends with
            <bdi class="mono">{{ shown(one.trail, one.fieldId).text }}</bdi>.
          </p>
          <p v-if="held.found.length > 0" class="quiet">
            What never changed while it was tracked is told as the source holds it now ({{
              counted(held.found.length, 'field')
            }}).
          </p>
          <p v-if="present.error.value" class="quiet">{{ problemOf(present.error.value).detail }}</p>
          <p class="quiet">Times are those of {{ readerZone }}.</p>
        </div>
      </aside>
    </div>
  </main>
</template>

<style scoped src="./versions.css"></style>
<style scoped>
main {
  padding: 22px 28px;
}
.page {
  padding: 0;
  display: flex;
  flex-direction: column;
  min-height: 0;
  flex: 1;
}
header {
  display: flex;
  align-items: baseline;
  gap: 4px 12px;
  white-space: nowrap;
  padding: 10px 18px;
  border-bottom: 1px solid var(--line);
  background: var(--panel);
}
h1 {
  font-size: 18px;
  line-height: 24px;
  font-weight: 650;
  flex: 0 1 auto;
  min-width: 160px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.space {
  flex: 1;
}
.view.on {
  font-weight: 650;
  color: var(--pine);
}
.body {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: 1fr 440px;
}
.story {
  overflow: auto;
  background: var(--panel);
}
.note {
  padding: 10px 18px;
}
.story h2 {
  display: flex;
  align-items: baseline;
  gap: 10px;
  font-size: 14px;
  font-weight: 650;
  padding: 10px 18px 0;
  border-top: 1px solid var(--line);
}
.neighbours {
  display: flex;
  gap: 8px;
  white-space: nowrap;
}
@media print {
  .body {
    display: block;
  }
  .story,
  .pane {
    overflow: visible;
    border: 0;
  }
  nav,
  .view,
  .back,
  header a {
    display: none;
  }
}
.small {
  font-size: 12.5px;
  font-weight: 400;
}
.legend {
  padding: 10px 18px 18px;
  font-size: 12.5px;
  display: grid;
  gap: 3px;
}
.hatch {
  display: inline-block;
  width: 26px;
  height: 11px;
  background: repeating-linear-gradient(135deg, transparent 0 5px, var(--line) 5px 6px);
}
.as-found {
  display: inline-block;
  width: 26px;
  height: 10px;
  border: 1px dashed var(--line);
}
.pane {
  border-left: 1px solid var(--line);
  display: flex;
  flex-direction: column;
  min-height: 0;
  overflow: auto;
}
table {
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
  background: var(--panel);
}
thead th {
  text-align: left;
  font-weight: 650;
  font-size: 12px;
  padding: 6px 6px;
  border-bottom: 1px solid var(--line);
  vertical-align: top;
}
thead th :deep(.ant-picker) {
  padding: 0 3px;
  width: 100%;
}
thead th :deep(.ant-picker-input > input) {
  font-size: 11.5px;
}
thead th :deep(.ant-picker-suffix) {
  display: none;
}
.only {
  font-weight: 400;
  color: var(--soft);
}
tbody th,
td {
  text-align: left;
  font-weight: 400;
  color: var(--soft);
  padding: 4px 6px;
  border-bottom: 1px solid var(--line-soft);
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  font-size: 12.5px;
}
.differs th,
.differs td {
  color: var(--ink);
  font-weight: 650;
}
.words {
  font-family: var(--text);
  font-style: italic;
  font-weight: 400;
}
.how {
  padding: 12px 18px;
  display: grid;
  gap: 6px;
  font-size: 13px;
}
.versions li.on {
  background: var(--pine-wash);
}
</style>
