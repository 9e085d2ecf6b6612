<script setup lang="ts">
import { computed } from 'vue'
import PickList from '../frame/PickList.vue'
import { browserZone, zoneChoices } from '../value/time.ts'
import { useSession } from './session.ts'

/** The zone in which all times are told to the person, wherever they sign in. */
const session = useSession()
const browsers = 'browser'
const options = [{ value: browsers, label: `that of this browser (${browserZone})` }, ...zoneChoices]
const chosen = computed({
  get: () => session.person?.zone ?? browsers,
  set: (zone) => void session.chooseZone(zone === browsers ? null : zone),
})
</script>

<template>
  <label class="zone"
    >Times are told in the zone
    <PickList
      v-model:value="chosen"
      size="small"
      show-search
      option-filter-prop="label"
      :options="options"
      aria-label="The zone in which times are told"
      :dropdown-match-select-width="false"
  /></label>
</template>

<style scoped>
.zone {
  display: grid;
  gap: 3px;
  font-size: 13px;
}
</style>
