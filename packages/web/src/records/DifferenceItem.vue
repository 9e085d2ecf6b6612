<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Checkbox from 'ant-design-vue/es/checkbox'
import Input from 'ant-design-vue/es/input'
import { routes, type Difference } from '@spoor/contract'
import { computed, ref } from 'vue'
import { call } from '../api/client.ts'
import { useDoing } from '../api/doing.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import type { NamedVocabulary } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'
import { fullTime } from '../value/time.ts'
import ValueText from '../value/ValueText.vue'
import { recordLink } from './link.ts'

/** Something that a record holds and no save explains, until somebody says what it was. */
const props = defineProps<{ difference: Difference; names: NamedVocabulary }>()
const emit = defineEmits<{ settled: [] }>()
const session = useSession()
const { busy, problem, doing } = useDoing()
const open = ref(false)
const why = ref('')
const takeIn = ref(false)
const isStanding = computed(() => props.difference.settled === null && props.difference.overAt === null)
const settle = () =>
  doing(async () => {
    await call(routes.settleDifference, {
      params: { differenceId: String(props.difference.id) },
      body: { why: why.value, takeIn: takeIn.value },
    })
    emit('settled')
  })
</script>

<template>
  <article :class="{ over: !isStanding }">
    <p class="what">
      <RouterLink :to="recordLink(difference)"
        >{{ names.typeTitle(difference.typeId) }} <bdi>{{ difference.label }}</bdi></RouterLink
      >
      <template v-if="difference.fieldId !== null">
        <b>{{ names.fieldName(difference.fieldId) }}</b>
        <span v-for="side in ['before', 'after'] as const" :key="side"
          ><span class="quiet">{{ side === 'before' ? 'by its trail' : 'in the source' }}</span>
          <ValueText
            :value="side === 'before' ? difference.trail : difference.source"
            :masked="difference.masked"
            :base-type="names.baseType(difference.fieldId)"
            :side="side"
        /></span>
        <span v-if="difference.cut" class="quiet">only the beginnings</span>
      </template>
      <b v-else-if="difference.kind === 'gone'">is not in the source any more, and no save says that it was deleted</b>
      <b v-else>is in the source, and no save made it</b>
    </p>
    <p class="quiet">
      It came about
      <template v-if="difference.after">between {{ fullTime(difference.after) }} and</template
      ><template v-else>by</template> {{ fullTime(difference.seenAt)
      }}<template v-if="difference.overAt">; the two agree again since {{ fullTime(difference.overAt) }}</template
      >.
    </p>
    <p v-if="difference.settled" class="quiet">
      {{ difference.settled.takenIn ? 'Taken in as found' : 'Settled' }} by {{ difference.settled.by }},
      {{ fullTime(difference.settled.at) }}: <bdi>{{ difference.settled.why }}</bdi>
    </p>
    <form v-else-if="open" @submit.prevent="settle">
      <Input
        v-model:value="why"
        size="small"
        aria-label="What it was"
        placeholder="What it was, and how that is known"
        :maxlength="2000"
        autofocus
        @keydown.esc="open = false"
      />
      <Checkbox v-if="difference.kind !== 'gone'" v-model:checked="takeIn"
        >take in as found what the source holds</Checkbox
      >
      <Button size="small" type="primary" html-type="submit" :loading="busy" :disabled="why.trim().length < 3"
        >Settle it</Button
      >
      <Button size="small" @click="open = false">Leave it</Button>
    </form>
    <button v-else-if="isStanding && session.may('custody.check')" class="plain link" @click="open = true">
      Settle …
    </button>
    <ProblemNote v-if="problem" :problem="problem" />
  </article>
</template>

<style scoped>
article {
  border-left: 3px solid var(--fail);
  padding: 2px 0 2px 12px;
  margin: 10px 0;
  font-size: 13px;
}
article.over {
  border-left-color: var(--line);
}
p {
  margin: 0 0 2px;
}
.what {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  font-size: 14px;
}
.what .quiet {
  margin-right: 6px;
}
form {
  display: flex;
  align-items: center;
  gap: 8px;
  max-width: 900px;
  margin-top: 4px;
}
form :deep(.ant-checkbox-wrapper) {
  font-size: 13px;
  white-space: nowrap;
}
.link {
  color: var(--pine);
}
</style>
