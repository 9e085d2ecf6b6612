<script setup lang="ts">
import type { Save } from '@spoor/contract'
import { capitalised } from '@spoor/core'
import { problemOf } from '../api/client.ts'
import ProblemNote from '../frame/ProblemNote.vue'
import ActorGlyph from '../value/ActorGlyph.vue'
import { dayAndTime } from '../value/time.ts'
import type { Below } from './below.ts'

/** Saves of what belongs or refers to a record, opened where they stand. */
export interface Props {
  below: Below
  summary: (save: Save) => string
}
defineProps<Props>()
const emit = defineEmits<{ open: [saveId: string] }>()
</script>

<template>
  <ProblemNote v-if="below.error" :problem="problemOf(below.error)" />
  <p v-else-if="!below.saves" role="status" class="listed quiet">Reading what refers to it …</p>
  <p v-else-if="below.saves.length === 0" class="listed quiet">
    Nothing that referred to it was saved since tracking began.
  </p>
  <template v-else>
    <p class="listed quiet">
      {{ capitalised(below.title) }}.
      <RouterLink :to="{ path: '/changes', query: below.all }">All of them in Changes</RouterLink>
    </p>
    <ol class="versions below" aria-label="Saves below">
      <li v-for="save in below.saves" :key="save.id">
        <span class="when">{{ dayAndTime(save.at) }}</span>
        <span><ActorGlyph :kind="save.actor.kind" /> {{ save.actor.knownAs ?? save.actor.name }}</span>
        <bdi class="what">{{ save.label }}</bdi>
        <span class="quiet what">{{ summary(save) }}</span>
        <button class="plain link" @click="emit('open', save.id)">Open</button>
      </li>
    </ol>
  </template>
</template>

<style scoped src="./versions.css"></style>
<style scoped>
.below {
  max-height: 260px;
  overflow: auto;
  border-block: 1px solid var(--line);
}
.listed {
  padding: 6px 18px;
}
</style>
