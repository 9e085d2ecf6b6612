<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import { useQuery } from '@tanstack/vue-query'
import { routes, type ProblemBody } from '@spoor/contract'
import { counted } from '@spoor/core'
import dayjs, { type Dayjs } from 'dayjs'
import { computed, defineAsyncComponent, ref, watch } from 'vue'
import AlarmList from '../alarms/AlarmList.vue'
import { call, problemOf } from '../api/client.ts'
import { gapWords } from '../changes/gaps.ts'
import NothingTracked from '../frame/NothingTracked.vue'
import ProblemNote from '../frame/ProblemNote.vue'
import { usePulse } from '../frame/pulse.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { dayOnly, onClock, readerZone, shortTime } from '../value/time.ts'
import DigestText from './DigestText.vue'
import OwnQuestion from './OwnQuestion.vue'
import { spellInstants, useSpell, usualSpells, type Spell } from './spell.ts'
import StoryItem from './StoryItem.vue'
import TwoWeeks from './TwoWeeks.vue'
import { useWaiting } from './waiting.ts'
import ToldList from '../watches/ToldList.vue'
import WaitingList from './WaitingList.vue'

/** A calendar is large, and what Today says is wanted before it. */
const RangePicker = defineAsyncComponent(async () => (await import('ant-design-vue/es/date-picker')).RangePicker)

/** What happened since one last looked, what stands out, and what waits. */
const session = useSession()
const pulse = usePulse()
const { spell, choose } = useSpell()
const { data, error, refetch, isFetching } = useQuery({
  queryKey: ['today', spell, computed(() => session.person?.lookedAt)],
  queryFn: () => call(routes.readToday, { query: { ...spellInstants(spell.value), zone: readerZone } }),
  staleTime: 60_000,
})
const labels = computed(() =>
  Object.fromEntries(
    (data.value?.stories ?? []).flatMap(({ about }) => (about ? [[`t${about.typeId}:${about.key}`, about.label]] : [])),
  ),
)
const names = useVocabulary(labels)
const { data: waiting, refetch: refetchWaiting } = useWaiting()

/** Nothing moves while somebody reads: what came since is told and taken in when they want it. */
const latestAtLoad = ref<string | null | undefined>()
watch([data, isFetching], () => (latestAtLoad.value = pulse.pulse?.latestSave))
const newer = computed(
  () =>
    data.value?.since !== 'chosen' &&
    latestAtLoad.value !== undefined &&
    pulse.pulse?.latestSave !== latestAtLoad.value,
)

const title = computed(() => {
  const today = data.value
  if (!today) return 'Since you last looked'
  if (today.since === 'last visit')
    return `Since you last looked, ${onClock(today.from).format(dayjs(today.from).isAfter(dayjs().subtract(6, 'day')) ? 'dddd HH:mm' : 'ddd D MMMM YYYY HH:mm')}`
  if (today.since === 'first visit') return 'Your first visit: the last seven days'
  const last = spell.value.to
  return last === null
    ? `Since ${dayjs(spell.value.from).format('ddd D MMMM YYYY')}`
    : last === spell.value.from
      ? dayjs(last).format('ddd D MMMM YYYY')
      : `From ${dayOnly(spell.value.from!)} to ${dayOnly(last)}`
})
const usual = usualSpells()
const isNow = (one: Spell) => one.from === spell.value.from && one.to === spell.value.to
const range = computed(() =>
  spell.value.from === null ? undefined : [dayjs(spell.value.from), dayjs(spell.value.to ?? undefined)],
)
function chooseDays(days: [Dayjs, Dayjs] | [string, string] | null) {
  if (days) choose({ from: dayjs(days[0]).format('YYYY-MM-DD'), to: dayjs(days[1]).format('YYYY-MM-DD') })
  else choose({ from: null, to: null })
}

/** Noticing reads every second; fewer saves than this are about to be read. */
const mostBehind = 50
/** So many are read at once; more are shown when they are wanted. */
const readAtOnce = 12
const all = ref(false)
const stories = computed(() => data.value?.stories ?? [])
const shown = computed(() => (all.value ? stories.value : stories.value.slice(0, readAtOnce)))

const settledAsked = ref(false)
const { data: settled, refetch: refetchSettled } = useQuery({
  queryKey: ['settled', computed(() => data.value?.from), computed(() => data.value?.until)],
  queryFn: () =>
    call(routes.listStories, {
      query: {
        from: data.value!.from.replace(/Z$/, ':00Z'),
        until: data.value!.until.replace(/Z$/, ':00Z'),
        settled: '1',
      },
    }),
  enabled: computed(() => settledAsked.value && data.value !== undefined),
})
const settledStories = computed(() => (settled.value?.stories ?? []).filter((story) => story.settled !== null))
async function afterSettling() {
  await Promise.all([refetch(), settledAsked.value ? refetchSettled() : undefined])
}

const problem = ref<ProblemBody | null>(null)
async function looked() {
  try {
    await session.lookedUntil(data.value!.until.replace(/Z$/, ':00Z'))
    problem.value = null
  } catch (caught) {
    problem.value = problemOf(caught)
  }
}
const print = () => window.print()
</script>

<template>
  <div class="today">
    <main class="page">
      <div class="top acts">
        <span class="spells" role="group" aria-label="The spell">
          <button
            v-for="one in usual"
            :key="one.name"
            class="plain"
            :class="{ on: isNow(one.spell) }"
            :aria-pressed="isNow(one.spell)"
            @click="choose(one.spell)"
          >
            {{ one.name }}
          </button>
        </span>
        <RangePicker
          :value="range as never"
          size="small"
          format="D MMM YYYY"
          :allow-clear="false"
          :placeholder="['from', 'to']"
          aria-label="Between two days"
          @change="(days: unknown) => chooseDays(days as never)"
        />
      </div>
      <h1>{{ title }}</h1>
      <NothingTracked belongs="Here stands each day what changed, what stands out, and what waits for you." />
      <ProblemNote v-if="error" :problem="problemOf(error)"
        ><button class="plain link" @click="refetch()">Try again</button></ProblemNote
      >
      <p v-else-if="!data" class="quiet">Counting …</p>
      <template v-if="data">
        <DigestText :today="data" :names="names" />
        <p class="quiet about">
          {{ shortTime(data.from) }} to {{ shortTime(data.until) }}, {{ readerZone }}.
          <template v-if="data.noticingBehind > mostBehind"
            >Noticing still has {{ counted(data.noticingBehind, 'save') }} to read; what stands out in them comes
            later.</template
          >
        </p>
        <p class="acts offers">
          <button v-if="newer" class="plain link" @click="refetch()">Newer saves have arrived · take them in</button>
          <Button v-if="data.since !== 'chosen'" size="small" @click="looked">I have looked until now</Button>
          <Button size="small" @click="print">Print</Button>
          <RouterLink v-if="session.may('noticing.read')" to="/today/noticing">How Spoor notices</RouterLink>
        </p>
        <ProblemNote v-if="problem" :problem="problem" />
        <AlarmList v-if="session.may('custody.read')" />
        <ToldList v-if="session.may('watches.read')" />
        <section v-if="waiting && waiting.toAnswer.length > 0" aria-label="Asked of you">
          <OwnQuestion
            v-for="question in waiting.toAnswer"
            :key="question.id"
            :question="question"
            :names="names"
            @answered="refetchWaiting()"
          />
        </section>
        <section v-if="data.stories" id="standing-out" aria-label="What stands out">
          <StoryItem v-for="story in shown" :key="story.id" :story="story" :names="names" @settled="afterSettling" />
          <p v-if="stories.length > shown.length" class="rest">
            <button class="plain link" @click="all = true">
              Show the other {{ stories.length - shown.length }}, lighter ones
            </button>
          </p>
          <p class="rest acts">
            <button v-if="!settledAsked" class="plain link" @click="settledAsked = true">
              Show what was settled in this spell
            </button>
            <span v-else-if="settled && settledStories.length === 0" class="quiet"
              >Nothing was settled in this spell.</span
            >
          </p>
          <StoryItem
            v-for="story in settledAsked ? settledStories : []"
            :key="`s${story.id}`"
            :story="story"
            :names="names"
            @settled="afterSettling"
          />
        </section>
      </template>
    </main>
    <aside aria-label="What waits, and how much was seen">
      <section class="waiting">
        <h2>Waiting for you</h2>
        <WaitingList />
      </section>
      <section v-if="data">
        <h2>Two weeks</h2>
        <TwoWeeks :strip="data.strip" />
      </section>
      <section v-if="data">
        <h2>What Spoor could not see</h2>
        <p v-if="data.gaps.length > 0" class="attention">
          {{ gapWords(data.gaps.slice(0, 4), names)
          }}<template v-if="data.gaps.length > 4"> and {{ counted(data.gaps.length - 4, 'more gap') }}</template
          >.
        </p>
        <p v-else class="quiet">Everything that the plan tracks was captured throughout this spell.</p>
        <p v-if="session.may('tracking.read')">
          <RouterLink to="/tracking/coverage">What is not tracked at all</RouterLink>
        </p>
      </section>
    </aside>
  </div>
</template>

<style scoped>
.today {
  flex: 1;
  min-height: 0;
  display: grid;
  grid-template-columns: minmax(0, 1fr) clamp(330px, 34vw, 480px);
}
.page {
  overflow: auto;
  padding: 14px 34px 30px 56px;
}
aside {
  overflow: auto;
  padding: 18px 26px;
  background: var(--panel);
  border-left: 1px solid var(--line);
  font-size: 13px;
}
aside section {
  margin-bottom: 26px;
}
h1 {
  font-size: 24px;
  line-height: 32px;
  font-weight: 650;
  margin: 8px 0 6px;
}
h2 {
  font-size: 15.5px;
  font-weight: 650;
  margin-bottom: 6px;
}
.top {
  display: flex;
  flex-wrap: wrap;
  gap: 6px 18px;
  align-items: center;
  font-size: 13px;
  /* The calendar comes later, and nothing moves by it. */
  min-height: 26px;
}
.spells {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 16px;
}
.spells button {
  color: var(--soft);
  border-bottom: 2px solid transparent;
}
.spells .on {
  color: var(--ink);
  font-weight: 650;
  border-color: var(--pine);
}
.about {
  font-size: 12.5px;
  margin-top: 4px;
}
.offers {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 14px;
  align-items: center;
  font-size: 13px;
  margin: 8px 0 14px;
}
.link {
  color: var(--pine);
}
.rest {
  border-top: 1px solid var(--line);
  padding: 10px 0;
  font-size: 13px;
}
@media print {
  .today {
    display: block;
  }
  .page,
  aside {
    overflow: visible;
    padding: 0;
    border: 0;
  }
  h1 {
    font-size: 17px;
    line-height: 22px;
  }
  aside {
    margin-top: 10px;
  }
  aside .waiting {
    display: none;
  }
  aside section {
    margin-bottom: 8px;
  }
}
</style>
