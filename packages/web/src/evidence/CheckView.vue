<script setup lang="ts">
import Button from 'ant-design-vue/es/button'
import Input from 'ant-design-vue/es/input'
import Progress from 'ant-design-vue/es/progress'
import { clockWords, findingWords, grouped, packRules, reportLines, verdictWords, type PackReport } from '@spoor/core'
import { computed, onUnmounted, ref } from 'vue'
import SpoorMark from '../frame/SpoorMark.vue'
import { useSession } from '../session/session.ts'
import CoverFacts from './CoverFacts.vue'
import type { CheckTold, CheckWish } from './checking.worker.ts'
import { sizeWords } from './words.ts'

/** Checks a pack where it is: nothing of it leaves the browser. */
const session = useSession()
const key = ref('')
const file = ref<File | null>(null)
const share = ref<number | null>(null)
const report = ref<PackReport | null>(null)
const trouble = ref<string | null>(null)
const over = ref(false)
let worker: Worker | null = null

function stop() {
  worker?.terminate()
  worker = null
  share.value = null
}
onUnmounted(stop)

function check(picked: File | null | undefined) {
  if (!picked) return
  stop()
  file.value = picked
  report.value = null
  trouble.value = null
  share.value = 0
  worker = new Worker(new URL('./checking.worker.ts', import.meta.url), { type: 'module' })
  worker.onmessage = ({ data }: MessageEvent<CheckTold>) => {
    if ('progress' in data) share.value = data.progress
    else {
      if ('report' in data) report.value = data.report
      else trouble.value = data.trouble
      stop()
    }
  }
  worker.onerror = () => {
    trouble.value = 'The check broke off.'
    stop()
  }
  worker.postMessage({ file: picked, key: key.value.trim() || null } satisfies CheckWish)
}
function drop(event: DragEvent) {
  over.value = false
  check(event.dataTransfer?.files[0])
}
function pick(event: Event) {
  const input = event.target as HTMLInputElement
  check(input.files?.[0])
  // The same file can be picked again, after it was altered or the key was given.
  input.value = ''
}
const failed = computed(() => report.value?.findings.filter((one) => one.outcome === 'failed') ?? [])
const left = computed(() => report.value?.findings.filter((one) => one.outcome === 'skipped') ?? [])
/** The report as text, as spoor-verify writes it. */
const kept = computed(() =>
  report.value
    ? `data:text/plain;charset=utf-8,${encodeURIComponent(`${reportLines(report.value).join('\n')}\n`)}`
    : '',
)
const print = () => window.print()
</script>

<template>
  <main class="page check" tabindex="0">
    <h1><SpoorMark v-if="!session.person" class="mark" /> Check a pack</h1>
    <p class="quiet">
      The file is read here, on this machine. Nothing of it is sent anywhere, and no sign-in is needed. What is checked
      is what <span class="mono">spoor-verify</span> checks, with the same words.
    </p>
    <p class="key">
      <label for="check-key">The ledger’s public key, from somebody other than whoever gave you the pack</label>
      <Input
        id="check-key"
        v-model:value="key"
        class="mono"
        placeholder="spoor/…+…+… (without it, the key in the pack is used)"
      />
    </p>
    <label
      class="drop"
      :class="{ over }"
      @dragover.prevent="over = true"
      @dragleave="over = false"
      @drop.prevent="drop"
    >
      <input type="file" accept=".zip,application/zip" aria-label="The pack to check" @change="pick" />
      <span v-if="file"
        >{{ file.name }}, {{ sizeWords(file.size) }} <span class="quiet">· drop or choose another</span></span
      >
      <span v-else>Drop a pack here, or <u>choose the file</u></span>
    </label>
    <p v-if="share !== null" class="going" role="status">
      <Progress :percent="Math.floor(share * 100)" size="small" aria-label="How far it is" />
      <Button size="small" @click="stop">Stop</Button>
    </p>
    <p v-if="trouble" class="failure" role="alert">It could not be read: {{ trouble }}</p>
    <section v-if="report" aria-label="What was found" aria-live="polite">
      <h2 :class="report.verdict === 'does not hold' ? 'failure' : report.verdict === 'holds' ? 'held' : 'attention'">
        {{ verdictWords(report) }}
      </h2>
      <p>
        {{ grouped(report.saves) }} saves; {{ grouped(report.passed) }} checks passed,
        {{ grouped(report.failed) }} failed, {{ grouped(report.skipped) }} could not be made.
        <a :href="kept" :download="`check-of-${file?.name ?? 'pack'}.txt`">The report as text</a> ·
        <button class="plain link" @click="print">Print</button>
      </p>
      <p v-if="report.fingerprint">
        Key fingerprint <span class="mono">{{ report.fingerprint }}</span>
      </p>
      <p v-if="report.timeStamp">
        Time-stamped {{ clockWords(report.timeStamp.at, 'UTC') }} by <bdi>{{ report.timeStamp.by }}</bdi>, certificate
        <span class="mono">{{ report.timeStamp.fingerprint }}</span>
      </p>
      <template v-if="failed.length > 0">
        <h3>What failed, and where</h3>
        <ul class="found">
          <li v-for="(one, at) in failed" :key="at" class="failure">{{ findingWords(one) }}</li>
        </ul>
      </template>
      <template v-if="left.length > 0">
        <h3>What could not be checked</h3>
        <ul class="found">
          <li v-for="(one, at) in left.slice(0, 50)" :key="at">{{ findingWords(one) }}</li>
          <li v-if="left.length > 50" class="quiet">and {{ grouped(left.length - 50) }} more</li>
        </ul>
      </template>
      <h3>By rule</h3>
      <table>
        <thead>
          <tr>
            <th scope="col">Rule</th>
            <th scope="col">About</th>
            <th scope="col">Passed</th>
            <th scope="col">Failed</th>
            <th scope="col">Not made</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in report.rules" :key="one.rule">
            <th scope="row">{{ one.rule }}</th>
            <td>{{ packRules[one.rule] }}</td>
            <td>{{ grouped(one.passed) }}</td>
            <td :class="{ failure: one.failed > 0 }">{{ grouped(one.failed) }}</td>
            <td>{{ grouped(one.skipped) }}</td>
          </tr>
        </tbody>
      </table>
      <template v-if="report.cover">
        <h3>
          Pack {{ report.cover.number }}: <bdi>{{ report.cover.title }}</bdi>
        </h3>
        <p>
          <bdi>{{ report.cover.sentence }}</bdi>
        </p>
        <CoverFacts :cover="report.cover" />
      </template>
    </section>
  </main>
</template>

<style scoped src="../frame/page.css"></style>
<style scoped>
.check > * {
  max-width: 860px;
}
.check {
  width: 100%;
  max-width: 920px;
  margin: 0 auto;
}
h2 {
  font-size: 17px;
  font-weight: 650;
  margin: 18px 0 4px;
}
h3 {
  font-size: 14px;
  font-weight: 650;
  margin: 14px 0 4px;
}
.held {
  color: var(--pine);
}
.key {
  display: grid;
  gap: 4px;
  margin: 14px 0;
}
.drop {
  display: block;
  border: 1px dashed var(--moss);
  background: var(--panel);
  padding: 30px;
  text-align: center;
  cursor: pointer;
}
.drop.over,
.drop:focus-within {
  border-color: var(--pine);
  background: var(--pine-wash);
}
.drop input {
  position: absolute;
  opacity: 0;
  width: 1px;
  height: 1px;
}
.going {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-top: 10px;
}
.found li {
  overflow-wrap: anywhere;
  font-size: 13px;
}
.link {
  color: var(--pine);
}
</style>
