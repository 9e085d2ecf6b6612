<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { routes, type Correction, type ProblemBody } from '@spoor/contract'
import { counted } from '@spoor/core'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { call, problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import { usePulse } from '../frame/pulse.ts'
import { useVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { fullTime } from '../value/time.ts'
import ValueText from '../value/ValueText.vue'
import CorrectionItems from './CorrectionItems.vue'

const route = useRoute()
const session = useSession()
const cache = useQueryClient()
const names = useVocabulary(ref({}))
const pulse = usePulse()
const id = computed(() => String(route.params['correctionId']))
const key = computed(() => ['correction', id.value])
const { data, error, refetch } = useQuery({
  queryKey: key,
  queryFn: () => call(routes.readCorrection, { params: { correctionId: id.value } }),
})
const correction = computed(() => data.value)
const busy = ref<'rehearsing' | 'applying' | null>(null)
const problem = ref<ProblemBody | null>(null)
const reason = ref('')

// The saves that carry a correction out arrive in the ledger a moment after it is applied.
watch(
  () => pulse.pulse?.latestSave,
  () =>
    (correction.value?.state === 'applying' ||
      (correction.value?.state === 'applied' && correction.value.savedAs.length === 0)) &&
    void refetch(),
)

const willWrite = computed(() =>
  (correction.value?.items ?? []).filter(
    (item) => item.state === 'clear' || (item.state === 'changed-since' && item.choice === 'overwrite'),
  ),
)
const recordsToWrite = computed(() => new Set(willWrite.value.map((item) => `${item.typeId}/${item.key}`)).size)
const isDraft = computed(() => correction.value?.state === 'draft')
const headWords = computed(() => {
  if (isDraft.value) return 'rehearsal, nothing is written yet'
  return correction.value?.state === 'applied' ? 'applied' : 'being applied'
})

async function run(what: 'rehearsing' | 'applying', work: () => Promise<Correction>) {
  busy.value = what
  problem.value = null
  try {
    cache.setQueryData(key.value, await work())
    void cache.invalidateQueries({ queryKey: ['corrections'] })
  } catch (caught) {
    problem.value = problemOf(caught)
  } finally {
    busy.value = null
  }
}

const rehearse = (choices: { itemId: number; choice: 'keep' | 'overwrite' }[] = []) =>
  run('rehearsing', () => call(routes.rehearseCorrection, { params: { correctionId: id.value }, body: { choices } }))
const apply = () =>
  run('applying', () =>
    call(routes.applyCorrection, { params: { correctionId: id.value }, body: { reason: reason.value } }),
  )
</script>

<template>
  <main>
    <ProblemNote v-if="error" :problem="problemOf(error)" />
    <p v-else-if="!correction" class="quiet">Reading …</p>
    <template v-else>
      <header>
        <h1>
          Correction {{ correction.id }}
          <span class="quiet state">{{ headWords }}</span>
        </h1>
        <p class="quiet">
          Sets {{ counted(correction.itemCount, 'value') }} of {{ counted(correction.recordCount, 'record') }} back.
          Drafted by {{ correction.draftedBy }}, {{ fullTime(correction.draftedAt) }}.
        </p>
        <p v-if="correction.state === 'applying'" role="status">
          It is being applied, or the source broke off while it was and is being asked what became of it. Nothing about
          it can be changed until that is known. <button class="plain link" @click="refetch()">Look again</button>
        </p>
        <p v-if="correction.state === 'applied'">
          Applied by {{ correction.appliedBy ?? 'a server that was stopped meanwhile' }},
          {{ correction.appliedAt && fullTime(correction.appliedAt)
          }}<template v-if="correction.reason">, because “{{ correction.reason }}”</template>.
          <RouterLink
            v-for="saveId in correction.savedAs.slice(0, 5)"
            :key="saveId"
            class="save"
            :to="{ path: '/changes', query: { save: saveId } }"
            >Save {{ saveId }}</RouterLink
          >
          <span v-if="correction.savedAs.length > 5" class="quiet">and {{ correction.savedAs.length - 5 }} more</span>
          <span v-if="correction.savedAs.length === 0" class="quiet">Its saves are on their way into the ledger.</span>
        </p>
      </header>
      <ProblemNote v-if="problem" :problem="problem"
        ><p v-if="problem.code === 'correction-moved'">
          <button class="plain link" @click="rehearse()">Rehearse again</button>
        </p></ProblemNote
      >
      <CorrectionItems
        :items="correction.items"
        :draft="isDraft"
        :names="names"
        :busy="busy !== null"
        @choose="(items, choice) => rehearse(items.map(({ id: itemId }) => ({ itemId, choice })))"
      />
      <section v-if="isDraft && correction.trial" class="trial">
        <p v-if="correction.trial.refusal" class="failure" role="alert">
          <b>The source refused the trial:</b> {{ correction.trial.refusal }}
        </p>
        <ul v-if="correction.trial.refused.length > 0">
          <li v-for="one in correction.trial.refused" :key="`${one.typeId}${one.key}`">
            <bdi>{{ names.typeTitle(one.typeId) }} {{ one.label }}</bdi
            >: {{ one.words }}
          </li>
        </ul>
        <p v-if="!correction.trial.refusal && willWrite.length > 0">
          Tried in the source just now and rolled back: it accepts {{ counted(willWrite.length, 'value') }}.
        </p>
        <template v-if="correction.trial.effects.length > 0">
          <p>
            {{ counted(correction.trial.effectCount, 'value') }} would change along with them, by the source’s own
            rules<template v-if="correction.trial.effectCount > correction.trial.effects.length"
              >, these among them</template
            >:
          </p>
          <ul>
            <li v-for="effect in correction.trial.effects" :key="`${effect.typeId}${effect.key}${effect.fieldId}`">
              <bdi>{{ names.typeTitle(effect.typeId) }} {{ effect.label }}</bdi
              >, {{ names.fieldName(effect.fieldId) }}
              <ValueText
                :value="effect.before"
                :base-type="names.baseType(effect.fieldId)"
                side="before"
              />&ensp;<ValueText :value="effect.after" :base-type="names.baseType(effect.fieldId)" side="after" />
            </li>
          </ul>
        </template>
      </section>
      <form v-if="isDraft" class="acts" @submit.prevent="apply">
        <template v-if="session.may('corrections.apply')">
          <Input
            v-model:value="reason"
            placeholder="Why is this set back? (kept with the change)"
            aria-label="Reason"
            class="reason"
          />
          <Button
            type="primary"
            html-type="submit"
            :loading="busy === 'applying'"
            :disabled="
              willWrite.length === 0 ||
              reason.trim().length < 3 ||
              correction.trial?.refusal != null ||
              busy === 'rehearsing'
            "
          >
            {{ willWrite.length === 0 ? 'Nothing would be written' : `Apply to ${counted(recordsToWrite, 'record')}` }}
          </Button>
        </template>
        <p v-else class="quiet">An administrator applies it.</p>
        <Button :loading="busy === 'rehearsing'" @click="rehearse()">Rehearse again</Button>
      </form>
    </template>
  </main>
</template>

<style scoped>
main {
  flex: 1;
  min-height: 0;
  display: flex;
  flex-direction: column;
  gap: 10px;
  padding: 18px 28px 0;
}
h1 {
  font-size: 20px;
  line-height: 28px;
  font-weight: 650;
}
.state {
  font-size: 14px;
  font-weight: 400;
  margin-left: 8px;
}
.save {
  margin-left: 8px;
}
.trial {
  flex: none;
  max-height: 24vh;
  overflow: auto;
  padding: 4px 0;
}
.trial li {
  padding-left: 18px;
}
.acts {
  flex: none;
  display: flex;
  gap: 10px;
  padding: 10px 28px;
  margin: 0 -28px;
  background: var(--panel);
  border-top: 1px solid var(--line);
}
.reason {
  max-width: 420px;
}
.link {
  color: var(--pine);
  text-decoration: underline;
}
</style>
