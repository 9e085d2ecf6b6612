<script setup lang="ts">
import type { Action, Change } from '@spoor/contract'
import type { LabelOf } from './labels.ts'
import ValueText from './ValueText.vue'

/** The values of one change side by side: of a record created only what it has, of one deleted only what it had. */
export interface Props {
  change: Change
  action: Action
  baseType: string
  labelOf?: LabelOf
}
defineProps<Props>()
</script>

<template>
  <ValueText
    v-if="action !== 'create'"
    :value="change.before"
    :base-type="baseType"
    side="before"
    :label="labelOf?.(change.fieldId, change.before)"
    :cut="change.beforeCut"
    :masked="change.masked"
    :erased="change.erased"
  />
  <ValueText
    v-if="action !== 'delete'"
    :value="change.after"
    :base-type="baseType"
    side="after"
    :label="labelOf?.(change.fieldId, change.after)"
    :cut="change.afterCut"
    :masked="change.masked"
    :erased="change.erased"
  />
</template>
