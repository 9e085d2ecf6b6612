<script setup lang="ts">
import { useVocabularyQuery } from '../scope/vocabulary.ts'
import { useSession } from '../session/session.ts'

/** On a stage that is empty because no field is tracked: what belongs there, and what to do first. */
export interface Props {
  belongs: string
}
defineProps<Props>()
const session = useSession()
const { data } = useVocabularyQuery()
</script>

<template>
  <p v-if="data && data.fields.length === 0" class="begin" role="status">
    Nothing is tracked yet. {{ belongs }}
    <RouterLink v-if="session.may('tracking.read')" to="/tracking"
      >Connect a database and switch fields on under Tracking</RouterLink
    ><template v-else>An administrator switches fields on under Tracking.</template>
  </p>
</template>

<style scoped>
.begin {
  margin: 8px 0;
}
</style>
