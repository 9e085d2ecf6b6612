<script setup lang="ts">
import type { Action, Change } from '@spoor/contract'
import ValueText from './ValueText.vue'

/** The values of one change side by side: of a record created only what it has, of one deleted only what it had. */
export interface Props {
  change: Change
  action: Action
  baseType: string
}
defineProps<Props>()
</script>

<template>
  <ValueText
    v-if="action !== 'create'"
    :value="change.before"
    :base-type="baseType"
    side="before"
    :cut="change.beforeCut"
    :masked="change.masked"
  />
  <ValueText
    v-if="action !== 'delete'"
    :value="change.after"
    :base-type="baseType"
    side="after"
    :cut="change.afterCut"
    :masked="change.masked"
  />
</template>
