<script setup lang="ts">
import Input from 'ant-design-vue/es/input'
import Popover from 'ant-design-vue/es/popover'
import { glossary, type GlossaryEntry } from '@spoor/core'
import { computed, ref } from 'vue'

/** What the words of the screen and the kinds of event mean, at hand where they are met. */
const find = ref('')
const groups = computed(() => {
  const wanted = find.value.trim().toLowerCase()
  const found = glossary.filter((entry) => `${entry.word} ${entry.means}`.toLowerCase().includes(wanted))
  const byGroup = new Map<string, GlossaryEntry[]>()
  for (const entry of found) byGroup.set(entry.group, [...(byGroup.get(entry.group) ?? []), entry])
  return [...byGroup]
})
</script>

<template>
  <Popover trigger="click" placement="bottomRight" :arrow="false" destroy-tooltip-on-hide>
    <button class="plain open">What the words mean</button>
    <template #content>
      <div class="glossary">
        <Input v-model:value="find" size="small" placeholder="Find a word" aria-label="Find a word" autofocus />
        <div class="list">
          <template v-for="[group, entries] in groups" :key="group">
            <h3>{{ group }}</h3>
            <dl>
              <template v-for="entry in entries" :key="entry.word">
                <dt>{{ entry.word }}</dt>
                <dd>{{ entry.means }}</dd>
              </template>
            </dl>
          </template>
          <p v-if="groups.length === 0" class="quiet">No word has this in its name or meaning.</p>
        </div>
      </div>
    </template>
  </Popover>
</template>

<style scoped>
.open {
  color: var(--pine);
  font-size: 13px;
  white-space: nowrap;
}
.glossary {
  width: 480px;
  max-width: 86vw;
}
.list {
  max-height: 60vh;
  overflow: auto;
  margin-top: 8px;
}
h3 {
  font-size: 13px;
  font-weight: 650;
  margin: 8px 0 2px;
}
dl {
  display: grid;
  grid-template-columns: 110px 1fr;
  row-gap: 3px;
  font-size: 13px;
}
dt {
  font-weight: 600;
}
</style>
