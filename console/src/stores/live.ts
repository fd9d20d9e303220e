import { defineStore } from 'pinia'
import { ref, shallowRef } from 'vue'

/** One event of the service. */
export type LiveEvent =
  | { event: 'system'; name: string }
  | { event: 'full_read'; system: string; object_count: number; state: string }
  | { event: 'change_set'; id: number; state: string }
  | {
      event: 'progress'
      id: number
      done: number
      failed: number
      total: number
      per_ten_seconds: number
      seconds_left: number | null
    }
  | { event: 'computing'; done: number; total: number }
  | { event: 'rules'; version: number }
  | { event: 'attention_changed' }
  | { event: 'missed' }

type Listener = (event: LiveEvent) => void

/** The event stream, shared by all pages. */
export const useLive = defineStore('live', () => {
  const connected = ref(false)
  const source = shallowRef<EventSource | null>(null)
  const listeners = new Set<Listener>()

  function open() {
    if (source.value) return
    const stream = new EventSource('/api/v1/events')
    let dropped = false
    stream.onopen = () => {
      connected.value = true
      // Events during the interruption are lost: pages reload.
      if (dropped) listeners.forEach((listener) => listener({ event: 'missed' }))
      dropped = false
    }
    stream.onerror = () => {
      connected.value = false
      dropped = true
    }
    stream.onmessage = (message) => {
      const event = JSON.parse(message.data as string) as LiveEvent
      listeners.forEach((listener) => listener(event))
    }
    source.value = stream
  }

  function close() {
    source.value?.close()
    source.value = null
    connected.value = false
  }

  function listen(listener: Listener): () => void {
    listeners.add(listener)
    return () => listeners.delete(listener)
  }

  return { connected, open, close, listen }
})
