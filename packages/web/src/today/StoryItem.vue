<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { routes, type ProblemBody, type Save, type StoryShown } from '@spoor/contract'
import { capitalised, counted, listed, reasonWords, storyHeadline, toldStory } from '@spoor/core'
import { computed, defineAsyncComponent, ref } from 'vue'
import { call, problemOf } from '../api/client.ts'
import { useRevert } from '../corrections/revert.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { useTray } from '../frame/tray.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { fullTime, shortTime } from '../value/time.ts'
import BeforeAfter from '../value/BeforeAfter.vue'
import { storyNames } from './story-names.ts'

const ReviewForm = defineAsyncComponent(() => import('../review/ReviewForm.vue'))

/** One thing that stands out: what, why, before and after, and what can be done about it. */
export interface Props {
  story: StoryShown
  names: NamedVocabulary
  /** Only told, as an example: nothing can be done with it. */
  plain?: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ settled: [] }>()
const session = useSession()
const tray = useTray()
const { draft, busy: drafting, problem: draftProblem } = useRevert()

/** Into the tray go no more than a person can still look over. */
const mostTaken = 1000
const pageSize = 200

const told = computed(() => toldStory(props.story))
const own = computed(() => storyNames(props.story, props.names))
const headline = computed(() => storyHeadline(told.value, own.value))
const reasons = computed(() => props.story.reasons.map((reason) => reasonWords(reason, told.value, own.value)))
const who = computed(
  () =>
    listed(props.story.actors.slice(0, 3).map((id) => props.names.actor(id) ?? `actor ${id}`)) +
    (props.story.actors.length > 3 ? ` and ${props.story.actors.length - 3} more` : ''),
)
const when = computed(() =>
  props.story.from === props.story.to
    ? fullTime(props.story.from)
    : `${shortTime(props.story.from)} to ${fullTime(props.story.to)}`,
)
const first = computed(() => props.story.reasons[0]?.rule)
/** What its records are called, when they are all of one type. */
const only = computed(() =>
  props.story.types.length === 1 ? props.names.typeTitle(props.story.types[0]!).toLowerCase() : '',
)
const link = computed(() => ({ path: '/changes', query: { state: `s${props.story.id}` } }))
const mayRevert = computed(() => session.may('corrections.draft'))

const act = ref<'ask' | 'settle' | null>(null)
const why = ref('')
const busy = ref(false)
const said = ref('')
const problem = ref<ProblemBody | null>(null)

/** The saves themselves, page by page, up to {@link mostTaken}. */
async function saves(): Promise<Save[]> {
  const all: Save[] = []
  let after: string | null = null
  do {
    const query = { scope: `state=s${props.story.id}`, limit: String(pageSize), ...(after === null ? {} : { after }) }
    const page: { saves: Save[]; next: string | null } = await call(routes.listSaves, { query })
    all.push(...page.saves)
    after = page.next
  } while (after !== null && all.length < mostTaken)
  return all
}

async function doing(work: () => Promise<void>) {
  busy.value = true
  problem.value = null
  try {
    await work()
  } catch (error) {
    problem.value = problemOf(error)
  } finally {
    busy.value = false
  }
}
const take = () =>
  doing(async () => {
    const taken = await saves()
    tray.add(taken)
    said.value =
      taken.length < props.story.saves
        ? `The latest ${counted(taken.length, 'save')} of ${counted(props.story.saves, 'save')} are in the tray.`
        : `${counted(taken.length, 'save')} put in the tray.`
  })
const revert = () => draft({ scope: `state=s${props.story.id}` })
const settle = (on: boolean) =>
  doing(async () => {
    await call(routes.settleStory, { params: { storyId: String(props.story.id) }, body: { on, why: why.value } })
    act.value = null
    emit('settled')
  })
const asked = (words: string) => {
  act.value = null
  said.value = words
}
</script>

<template>
  <article class="story" :aria-label="headline">
    <div class="told">
      <h3>
        <bdi>{{ headline }}</bdi>
      </h3>
      <p class="quiet">
        <bdi>{{ capitalised(who) }}</bdi>, {{ when }}.
        <template v-for="words in reasons" :key="words">{{ words }}{{ ' ' }}</template>
      </p>
      <p v-for="example in story.examples" :key="example.saveId" class="example">
        <span v-if="story.records > 1" class="quiet"
          >{{ only ? `${only} ` : '' }}<bdi>{{ example.label }}</bdi></span
        >
        <BeforeAfter :change="example.change" action="change" :base-type="names.baseType(example.change.fieldId)" />
      </p>
      <p v-if="story.examples.length > 0 && story.saves > story.examples.length" class="quiet more">
        and {{ counted(story.saves - story.examples.length, 'more save') }}
      </p>
      <p v-if="story.settled" class="quiet">
        Settled by {{ story.settled.by }}, {{ shortTime(story.settled.at)
        }}<template v-if="story.settled.why"
          >: <bdi>{{ story.settled.why }}</bdi></template
        >
      </p>
      <p v-if="said" role="status">{{ said }}</p>
      <ProblemNote v-if="problem ?? draftProblem" :problem="(problem ?? draftProblem)!" />
      <ReviewForm
        v-if="act === 'ask'"
        act="ask"
        :whom="who"
        :saves="async () => (await saves()).map((save) => save.id)"
        @done="asked"
        @close="act = null"
      />
      <form v-if="act === 'settle'" class="settle" @submit.prevent="settle(true)" @keydown.esc.stop="act = null">
        <Input
          v-model:value="why"
          size="small"
          aria-label="Why it is settled"
          placeholder="Why: what was found out, or what was done"
          :maxlength="2000"
        />
        <Button size="small" type="primary" html-type="submit" :loading="busy">Settle it</Button>
        <Button size="small" @click="act = null">Leave it</Button>
      </form>
    </div>
    <div v-if="!plain" class="ways">
      <RouterLink :to="link">{{
        story.saves === 1 ? 'Open the save' : `Open its ${counted(story.saves, 'save')}`
      }}</RouterLink>
      <RouterLink v-if="first === 'unknown-actor' && session.may('directory.edit')" to="/tracking/who"
        >Say who this is</RouterLink
      >
      <RouterLink v-if="first === 'gap' && session.may('tracking.read')" to="/tracking/coverage"
        >See the coverage</RouterLink
      >
      <RouterLink v-if="session.may('packs.make')" :to="{ ...link, path: '/evidence/making' }">Evidence …</RouterLink>
      <button v-if="session.may('review.write')" class="plain" @click="act = 'ask'">Ask why</button>
      <button v-if="session.may('changes.mark')" class="plain" :disabled="busy" @click="take">Into the tray</button>
      <button v-if="mayRevert" class="plain" :disabled="busy || drafting" @click="revert">Rehearse a revert</button>
      <template v-if="session.may('changes.mark')">
        <button v-if="story.settled" class="plain" :disabled="busy" @click="settle(false)">
          Not settled after all
        </button>
        <button v-else class="plain" @click="act = 'settle'">Settle …</button>
      </template>
    </div>
  </article>
</template>

<style scoped>
.story {
  padding: 11px 0 10px;
  border-top: 1px solid var(--line);
}
h3 {
  font-size: 15.5px;
  line-height: 20px;
  font-weight: 650;
  overflow-wrap: anywhere;
}
.told {
  display: grid;
  gap: 2px;
  align-content: start;
}
.told > p {
  font-size: 13px;
  line-height: 19px;
}
.example {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  overflow-wrap: anywhere;
}
.ways {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 18px;
  margin-top: 4px;
  font-size: 13px;
}
.ways a {
  text-decoration: none;
}
.ways a:hover,
.ways button:hover {
  text-decoration: underline;
}
.ways button {
  color: var(--pine);
}
.settle {
  display: flex;
  gap: 8px;
  margin-top: 4px;
}
@media print {
  .ways {
    display: none;
  }
  .story {
    padding: 5px 0;
    break-inside: avoid;
  }
}
</style>
