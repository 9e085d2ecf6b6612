<script setup lang="ts">
import { routes, type Correction } from '@spoor/contract'
import { counted, grouped } from '@spoor/core'
import { computed } from 'vue'
import { addressOf } from '../api/client.ts'
import { useSession } from '../session/session.ts'
import { recordLink } from '../records/link.ts'
import { lengthWords } from '../records/scale.ts'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { fullTime } from '../value/time.ts'
import ValueText from '../value/ValueText.vue'

/** What the source said when a correction was tried, or what the trail saw when it was applied. */
export interface Props {
  correction: Correction
  names: NamedVocabulary
  busy: boolean
}
const props = defineProps<Props>()
const emit = defineEmits<{ leaveRefused: [] }>()
const trial = computed(() => (props.correction.state === 'draft' ? props.correction.trial : null))
const session = useSession()
const fileOf = (name: 'exportCorrectionScript' | 'exportCorrectionList') =>
  addressOf(routes[name], { params: { correctionId: String(props.correction.id) } })
const given = computed(() => props.correction.givenOut)
const verdict = computed(() => props.correction.verdict)
</script>

<template>
  <aside v-if="trial || verdict" aria-label="What the source says" tabindex="0">
    <template v-if="trial">
      <h2>Tried in the source, then rolled back</h2>
      <template v-if="trial.refusal">
        <p class="failure" role="alert"><b>The source refused it:</b> {{ trial.refusal }}</p>
        <template v-if="trial.refused.length > 0">
          <p>
            It refuses {{ counted(trial.refused.length, 'record') }} and accepts all others.
            <button class="plain link" :disabled="busy" @click="emit('leaveRefused')">
              Leave {{ trial.refused.length === 1 ? 'it' : 'them' }} as
              {{ trial.refused.length === 1 ? 'it is' : 'they are' }}
            </button>
          </p>
          <ul>
            <li v-for="one in trial.refused" :key="`${one.typeId}${one.key}`">
              <RouterLink :to="recordLink(one)"
                ><bdi>{{ names.typeTitle(one.typeId) }} {{ one.label }}</bdi></RouterLink
              >: {{ one.words }}
            </li>
          </ul>
        </template>
      </template>
      <p v-else-if="correction.writes.values > 0">
        It accepts {{ counted(correction.writes.values, 'value') }} of
        {{ counted(correction.writes.records, 'record') }}.
      </p>
      <p v-else class="quiet">There is nothing to write as it stands.</p>
      <template v-if="correction.writes.values > 0 && session.may('corrections.draft')">
        <h2>Where Spoor may not write</h2>
        <p>
          Whoever owns the source can do it: <a :href="fileOf('exportCorrectionScript')" download>as one SQL script</a>,
          guarded and all or nothing, or <a :href="fileOf('exportCorrectionList')" download>as a list</a>. Rehearse
          again afterwards: what was done then holds it already.
        </p>
      </template>
      <p v-if="given" role="status">
        Given out by {{ given.by }}, {{ fullTime(given.at) }}. The trail saw {{ grouped(given.done) }} of
        {{ counted(given.done + given.open, 'value') }} become so since<template v-if="given.open > 0"
          >; <span class="attention">{{ grouped(given.open) }} {{ given.open === 1 ? 'is' : 'are' }} open</span>, for
          {{ lengthWords(Date.now() - Date.parse(given.at)) }}</template
        >.
      </p>
      <template v-if="trial.effects.length > 0">
        <h2>What follows from it there</h2>
        <p>
          {{ counted(trial.effectCount, 'value') }} would change along with them, by the source’s own rules<template
            v-if="trial.effectCount > trial.effects.length"
            >, the first {{ grouped(trial.effects.length) }} among them</template
          >:
        </p>
        <ul>
          <li v-for="effect in trial.effects" :key="`${effect.typeId}${effect.key}${effect.fieldId}`">
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
      <p v-else-if="!trial.refusal && correction.writes.values > 0" class="quiet">
        No other tracked value would change.
      </p>
    </template>
    <template v-else-if="verdict">
      <h2>Held against what was captured</h2>
      <p>
        The trail saw {{ counted(verdict.asAsked, 'value') }} become what was asked for<template
          v-if="verdict.otherwiseCount === 0"
          >: all that were written</template
        >.
      </p>
      <template v-if="verdict.otherwiseCount > 0">
        <p class="attention">
          Not so {{ counted(verdict.otherwiseCount, 'value')
          }}{{ verdict.otherwiseCount > verdict.otherwise.length ? ', these among them' : '' }}:
        </p>
        <ul>
          <li v-for="one in verdict.otherwise" :key="`${one.typeId}${one.key}${one.fieldId}`">
            <RouterLink :to="recordLink(one)"
              ><bdi>{{ names.typeTitle(one.typeId) }} {{ one.label }}</bdi></RouterLink
            >, {{ names.fieldName(one.fieldId) }}:
            <template v-if="one.seen"
              ><ValueText :value="one.seen.value" :base-type="names.baseType(one.fieldId)" side="after" />, not
              <ValueText :value="one.target" :base-type="names.baseType(one.fieldId)" side="before" /></template
            ><template v-else>nothing was captured of it</template>
          </li>
        </ul>
      </template>
    </template>
  </aside>
</template>

<style scoped>
aside {
  flex: 0 0 320px;
  overflow: auto;
  padding: 12px 18px;
  font-size: 13px;
  background: var(--raised);
  border-left: 1px solid var(--line);
}
h2 {
  font-size: 13px;
  font-weight: 650;
  margin: 4px 0;
}
p {
  margin: 0 0 8px;
}
ul {
  margin: 0 0 10px;
}
li {
  padding: 2px 0;
  overflow-wrap: anywhere;
}
.link {
  color: var(--pine);
  text-decoration: underline;
}
</style>
