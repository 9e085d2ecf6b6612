<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Progress from 'ant-design-vue/es/progress'
import { grouped } from '@spoor/core'
import { routes } from '@spoor/contract'
import { computed, watch } from 'vue'
import { useRoute } from 'vue-router'
import { call } from '../api/client.ts'
import { waits } from '../api/waiting.ts'

/** What calls of this page wait for: what fields held is read once, and some of what is worked out takes a while. */
const first = computed(() => waits.value[0]?.problem)
const progress = computed(() => first.value?.progress)
const share = computed(() => {
  const { done = 0, total = null } = progress.value ?? {}
  return total ? Math.min(100, Math.floor((done / total) * 100)) : 0
})

const noneWait = () => {
  for (const wait of waits.value) wait.stopped = true
}
/** What another page was to show nobody waits for. */
const route = useRoute()
watch(() => route.path, noneWait)

async function stop() {
  const jobIds = new Set(waits.value.flatMap(({ problem }) => problem.progress?.jobId ?? []))
  // Whoever may not stop the reading need not wait for it either.
  for (const jobId of jobIds) await call(routes.stopJob, { params: { jobId: String(jobId) } }).catch(() => undefined)
  noneWait()
}
</script>

<template>
  <section v-if="first" class="reading" role="status" aria-label="Being read">
    <span v-if="progress"
      >{{ progress.words
      }}<template v-if="progress.total !== null && progress.done > 0"
        >: {{ grouped(progress.done) }} of {{ grouped(progress.total) }} saves</template
      ><template v-else-if="progress.done > 0">: {{ grouped(progress.done) }} saves looked through</template>.
      {{ progress.total === null ? 'It comes when that is done.' : 'Once read, it is there at once.' }}</span
    >
    <span v-else>{{ first.detail }}</span>
    <Progress
      v-if="progress?.total"
      class="share"
      :percent="share"
      :show-info="false"
      size="small"
      aria-label="How much is read"
    />
    <Button size="small" @click="stop">Stop</Button>
  </section>
</template>

<style scoped>
.reading {
  display: flex;
  align-items: center;
  gap: 16px;
  padding: 8px 20px;
  border-top: 1px solid var(--line);
  background: var(--raised);
}
.share {
  flex: 0 1 14rem;
  margin: 0;
}
</style>
