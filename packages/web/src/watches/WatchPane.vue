<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { keepPreviousData, useQuery, useQueryClient } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { routes, type Receiver, type Watch, type WatchRule, type WatchTrial } from '@spoor/contract'
import { amountText, comparedDays, counted, dateText, firstWork, hasScope, listed, workText } from '@spoor/core'
import { computed, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { addressesIn } from '../value/addresses.ts'
import { useDoing } from '../api/doing.ts'
import { useSummary } from '../changes/saves-list.ts'
import PickList from '../frame/PickList.vue'
import PressPopover from '../frame/PressPopover.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import ScopeSentence from '../scope/ScopeSentence.vue'
import { scopeQuery } from '../scope/query.ts'
import { useUrlScope } from '../scope/url-scope.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { readerZone, shortTime } from '../value/time.ts'
import WatchFirings from './WatchFirings.vue'
import WatchStrip from './WatchStrip.vue'
import WatchWhen from './WatchWhen.vue'
import { weekdays } from './weekdays.ts'

/** A watch being made or changed, tried on the past while it is; and what it has sent. */
export interface Props {
  watch: Watch | null
  mayMail: boolean
  receivers: readonly Receiver[]
}
const props = defineProps<Props>()
const emit = defineEmits<{ kept: [watch: Watch | null]; close: [] }>()
const session = useSession()
const cache = useQueryClient()
const mayEdit = computed(
  () =>
    session.may('watches.edit') &&
    (!props.watch || props.watch.owner.id === session.person?.id || session.may('people.manage')),
)
const { parsed, text, set } = useUrlScope()
const { summary } = useSummary(text, () => true)
const names = useVocabulary(
  computed(() => summary.value?.recordLabels ?? {}),
  computed(() => summary.value?.runLabels ?? {}),
)

const given = props.watch
const fires = ref<WatchRule['fires']>(given?.fires ?? { fires: 'saves', more: 0, within: 'run' })
const missingWhen = ref<string | null>(null)
const inScope = computed(() => hasScope(fires.value))
const isDigest = computed(() => fires.value.fires === 'digest')
const speaks = ref<WatchRule['speaks']['speaks']>(given?.speaks.speaks ?? 'once')
const at = ref(given && 'at' in given.speaks ? given.speaks.at : '17:30')
const on = ref(given?.speaks.speaks === 'weekly' ? given.speaks.on : 1)
const quiet = ref(Boolean(given?.quiet))
const quietFrom = ref(given?.quiet?.from ?? '22:00')
const quietTo = ref(given?.quiet?.to ?? '07:00')
const people = ref<number[]>(given ? [...given.people] : [session.person!.id])
const programs = ref<number[]>(given ? [...given.receivers] : [])
const mail = ref((given?.mail ?? []).join(', '))

const speaksOptions = [
  { value: 'once', label: 'at once' },
  { value: 'hourly', label: 'each hour' },
  { value: 'daily', label: 'daily at' },
  { value: 'weekly', label: 'weekly on' },
]
const { data: assignees } = useQuery({
  queryKey: ['assignees'],
  queryFn: () => call(routes.listAssignees),
  enabled: mayEdit,
})
const peopleOptions = computed(() =>
  (assignees.value?.people ?? []).map(({ id, name }) => ({
    value: id,
    label: id === session.person?.id ? `${name} (you)` : name,
  })),
)

const receiverOptions = computed(() => props.receivers.map(({ id, name }) => ({ value: id, label: name })))
const rule = computed<WatchRule>(() => ({
  scope: inScope.value ? text.value : '',
  fires: fires.value,
  speaks: isDigest.value
    ? { speaks: 'once' }
    : speaks.value === 'daily'
      ? { speaks: 'daily', at: at.value }
      : speaks.value === 'weekly'
        ? { speaks: 'weekly', at: at.value, on: on.value }
        : { speaks: speaks.value },
  quiet: quiet.value ? { from: quietFrom.value, to: quietTo.value } : null,
  zone: given?.zone ?? readerZone,
  people: people.value,
  mail: addressesIn(mail.value),
  receivers: programs.value,
}))
const settledMs = 400
/** Only what decides when it fires is tried. */
const tried = refDebounced(
  computed(() => ({
    ...rule.value,
    people: [],
    mail: [],
    receivers: [],
    quiet: null,
    speaks: { speaks: 'once' as const },
  })),
  settledMs,
)
const {
  data: trial,
  error: trialError,
  isFetching,
} = useQuery({
  queryKey: ['watch-trial', tried],
  queryFn: ({ signal }) => call(routes.tryWatch, { body: tried.value, signal }),
  placeholderData: keepPreviousData,
})
/** The rule as it stands, where what is tried is another: both would be asked the same. */
const standing = computed(() => {
  if (!given || isDigest.value) return null
  const { scope, fires: meant, zone } = given
  const said = (asked: string, when: WatchRule['fires']) => JSON.stringify([asked, Object.entries(when).sort()])
  const isSame = said(scope, meant) === said(tried.value.scope, tried.value.fires)
  return isSame ? null : { ...tried.value, scope, fires: meant, zone }
})
const { data: before } = useQuery({
  queryKey: ['watch-trial', standing],
  queryFn: ({ signal }) => call(routes.tryWatch, { body: standing.value!, signal }),
  enabled: computed(() => standing.value !== null),
})
/** What the change would make of the past year. */
const compared = computed(() => {
  if (standing.value === null || !before.value || !trial.value) return null
  const { gone, new: added } = comparedDays(before.value.strip, trial.value.strip, tried.value.zone)
  const told = (days: readonly string[]) =>
    days.length > mostDays
      ? `${listed(days.slice(-mostDays).map(dateText))} and ${days.length - mostDays} before`
      : listed(days.map(dateText))
  const differences = [
    ...(added.length === 0 ? [] : [`It would fire on ${counted(added.length, 'more day')}: ${told(added)}.`]),
    ...(gone.length === 0 ? [] : [`It would fire no more on ${counted(gone.length, 'day')}: ${told(gone)}.`]),
  ]
  const same = 'It would fire on the same days.'
  return `As it stands, ${often(before.value.times)}. ${differences.length === 0 ? same : differences.join(' ')}`
})
const mostDays = 4
const often = (times: number) => (times === 1 ? 'once' : counted(times, 'time'))
const trialWords = computed(() => {
  const { times = 0, by: who = [] } = trial.value ?? {}
  if (times === 0) return 'It would not have fired.'
  const named = 3
  const whoWords =
    who.length === 0 ? '' : `: ${listed(who.slice(0, named).map((one) => `${often(one.times)} by ${one.name}`))}`
  return `It would have fired ${often(times)}${whoWords}.`
})

/** The same scope, worked out. */
const worked = computed(() => ({
  path: '/changes',
  query: {
    ...scopeQuery(parsed.value.scope),
    reading: 'work',
    work: workText({ ...firstWork.pivot, rows: 'who', columns: 'month' }),
  },
}))
function wouldSay({ saves, total, said }: WatchTrial['last'][number]): string {
  if (said.length > 0) return said[0]!.words
  if (saves === 0) return 'none had come'
  return total === null ? counted(saves, 'save') : `${amountText(total)} in ${counted(saves, 'save')}`
}

const missing = computed(() => {
  if (rule.value.people.length + rule.value.mail.length + rule.value.receivers.length === 0)
    return 'Say who is to be told.'
  return missingWhen.value
})
const { busy, problem, doing } = useDoing()
const keep = () =>
  doing(async () => {
    const kept = props.watch
      ? await call(routes.changeWatch, { params: { watchId: String(props.watch.id) }, body: rule.value })
      : await call(routes.makeWatch, { body: rule.value })
    emit('kept', kept)
  })
const why = ref('')
const shortest = 3
const put = (state: Watch['state']) =>
  doing(async () => {
    const body = { state, why: state === 'on' ? null : why.value }
    emit('kept', await call(routes.setWatchState, { params: { watchId: String(props.watch!.id) }, body }))
    why.value = ''
  })
const tryMessage = () =>
  doing(async () => {
    emit('kept', await call(routes.tryMessage, { params: { watchId: String(props.watch!.id) } }))
    await cache.invalidateQueries({ queryKey: ['firings', props.watch!.id] })
  })
const remove = () =>
  doing(async () => {
    await call(routes.removeWatch, { params: { watchId: String(props.watch!.id) } })
    emit('kept', null)
  })
</script>

<template>
  <form class="pane" :aria-label="watch ? `Watch ${watch.id}` : 'A new watch'" @submit.prevent="keep">
    <div class="part said">
      <ScopeSentence v-if="inScope" :scope="parsed.scope" :names="names" @change="set" />
      <span v-else>Everything, whatever the scope.</span>
      <button type="button" class="plain close" aria-label="Close" @click="emit('close')">×</button>
    </div>
    <WatchWhen
      v-model:fires="fires"
      v-model:missing="missingWhen"
      :scope="parsed.scope"
      :names="names"
      :disabled="!mayEdit"
    />
    <fieldset class="part" :disabled="!mayEdit">
      <legend>speaks</legend>
      <span v-if="!isDigest" class="line">
        <PickList v-model:value="speaks" :options="speaksOptions" aria-label="When it speaks" size="small" />
        <PickList
          v-if="speaks === 'weekly'"
          v-model:value="on"
          :options="weekdays"
          aria-label="On which day"
          size="small"
        />
        <Input
          v-if="speaks === 'daily' || speaks === 'weekly'"
          v-model:value="at"
          type="time"
          size="small"
          class="time"
          aria-label="At what time"
        />
        <span class="quiet">{{ rule.zone }}</span>
      </span>
      <span class="line">
        <span v-if="isDigest" class="quiet">at its time, {{ rule.zone }}</span>
        <Checkbox v-model:checked="quiet">not between</Checkbox>
        <template v-if="quiet">
          <Input v-model:value="quietFrom" type="time" size="small" class="time" aria-label="Quiet from" /> and
          <Input v-model:value="quietTo" type="time" size="small" class="time" aria-label="Quiet until" />
        </template>
      </span>
    </fieldset>
    <fieldset class="part" :disabled="!mayEdit">
      <legend>to</legend>
      <PickList
        v-model:value="people"
        mode="multiple"
        :options="peopleOptions"
        option-filter-prop="label"
        aria-label="Who is told in Spoor"
        placeholder="Nobody in Spoor"
        size="small"
      />
      <Input
        v-if="mayMail || mail !== ''"
        v-model:value="mail"
        size="small"
        aria-label="Mail addresses"
        placeholder="Mail addresses, with commas"
      />
      <PickList
        v-if="receivers.length > 0 || programs.length > 0"
        v-model:value="programs"
        mode="multiple"
        :options="receiverOptions"
        option-filter-prop="label"
        aria-label="Which programs are told"
        placeholder="No program"
        size="small"
      />
      <p class="quiet">
        A message names the record and the fields, who and when, and leads to the save; it holds no value.
        <template v-if="!mayMail">Mail cannot be sent: SPOOR_MAIL_URL is not set where Spoor is started.</template>
      </p>
    </fieldset>
    <section class="part" aria-label="Tried on the past year" :aria-busy="isFetching">
      <h2>{{ isDigest ? 'as it would be now, of the last day' : 'tried on the past year' }}</h2>
      <ProblemNote v-if="trialError" :problem="problemOf(trialError)" />
      <p v-else-if="!trial" class="quiet">Looking …</p>
      <ul v-else-if="isDigest" class="now">
        <li v-for="one in trial.now" :key="one.path">
          <RouterLink :to="one.path"
            ><bdi>{{ one.words }}</bdi></RouterLink
          >
        </li>
      </ul>
      <template v-else>
        <p>{{ trialWords }}</p>
        <WatchStrip :fired="watch?.strip ?? []" :would="trial.strip" :words="trialWords" />
        <template v-if="compared && before">
          <p>{{ compared }}</p>
          <WatchStrip :fired="watch?.strip ?? []" :would="before.strip" :words="`As it stands. ${compared}`" />
          <p class="quiet">The line above is as changed, the one below as it stands.</p>
        </template>
        <p v-if="inScope" class="quiet">
          <RouterLink :to="worked">Work it out by whom and month</RouterLink>
        </p>
        <ul>
          <li v-for="(one, index) in trial.last" :key="index" class="quiet">
            <RouterLink v-if="one.saveId" :to="{ path: '/changes', query: { save: one.saveId } }">{{
              shortTime(one.at)
            }}</RouterLink><template v-else>{{ shortTime(one.at) }}</template
            >, <bdi>{{ wouldSay(one) }}</bdi>
          </li>
        </ul>
      </template>
    </section>
    <WatchFirings v-if="watch" :watch-id="watch.id" :fired="watch.fired" :may-send="mayEdit" class="part" />
    <ProblemNote v-if="problem" :problem="problem" />
    <footer v-if="mayEdit">
      <Button type="primary" html-type="submit" :loading="busy" :disabled="missing !== null">{{
        watch ? 'Keep' : 'Watch from now on'
      }}</Button>
      <template v-if="watch">
        <Button v-if="watch.state !== 'on'" :loading="busy" @click="put('on')">Let it go on</Button>
        <PressPopover v-else title="Silence …">
          <div class="silence">
            <Input v-model:value="why" aria-label="Why it is silenced" placeholder="Why" />
            <Button size="small" :disabled="why.trim().length < shortest" @click="put('muted')"
              >Mute: it fires and tells nobody</Button
            >
            <Button size="small" :disabled="why.trim().length < shortest" @click="put('paused')"
              >Pause: it looks at nothing</Button
            >
          </div>
        </PressPopover>
        <Button title="To everybody whom it tells: that nothing happened" :loading="busy" @click="tryMessage"
          >Send a trial</Button
        >
        <PressPopover title="Take away …">
          <div class="silence">
            <p>It fires no more; what it told stays where it was told.</p>
            <Button size="small" danger :loading="busy" @click="remove">Take the watch away</Button>
          </div>
        </PressPopover>
      </template>
      <span class="quiet" role="status">{{ missing ?? '' }}</span>
    </footer>
  </form>
</template>

<style scoped>
.now li {
  padding: 3px 0;
  border-top: 1px solid var(--line-soft);
}
.silence {
  display: grid;
  gap: 8px;
  width: 260px;
}
</style>
<style scoped src="./pane.css"></style>
