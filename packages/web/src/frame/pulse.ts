import type { Pulse } from '@spoor/contract'
import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

/** A rate over less than this says little. */
const leastSpellMs = 15_000

/** How the ledger stands, as the server tells it; `lost` when it no longer does. */
export const usePulse = defineStore('pulse', () => {
  const pulse = ref<Pulse | null>(null)
  const lost = ref(false)
  const samples = ref<{ atMs: number; taken: number }[]>([])
  let events: EventSource | undefined

  /** Saves a minute over the last minute; null until there is enough to tell. */
  const perMinute = computed(() => {
    const [first, last] = [samples.value[0], samples.value.at(-1)]
    if (!first || !last || last.atMs - first.atMs < leastSpellMs) return null
    return Math.round(((last.taken - first.taken) * 60_000) / (last.atMs - first.atMs))
  })

  function sample(state: Pulse): void {
    const atMs = performance.now()
    const taken = state.sources.reduce((sum, source) => sum + source.taken, 0)
    samples.value = [...samples.value.filter((one) => atMs - one.atMs < 60_000), { atMs, taken }]
  }

  function start(): void {
    if (events) return
    events = new EventSource('/api/v1/pulse')
    events.onmessage = (event: MessageEvent<string>) => {
      pulse.value = JSON.parse(event.data) as Pulse
      lost.value = false
      sample(pulse.value)
    }
    // The browser tries again by itself while the connection is merely broken.
    events.onerror = () => {
      lost.value = true
    }
  }

  function stop(): void {
    events?.close()
    events = undefined
    pulse.value = null
  }

  return { pulse, lost, perMinute, start, stop }
})
