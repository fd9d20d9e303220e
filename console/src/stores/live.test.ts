import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { useLive } from './live'

class Stream {
  static last: Stream
  onopen: (() => void) | null = null
  onerror: (() => void) | null = null
  onmessage: ((message: { data: string }) => void) | null = null
  closed = false
  constructor(readonly url: string) {
    Stream.last = this
  }
  close() {
    this.closed = true
  }
}

describe('the stream of events', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    vi.stubGlobal('EventSource', Stream)
  })

  it('tells every page, until the page stops listening', () => {
    const live = useLive()
    live.open()
    const heard: string[] = []
    const deaf = live.listen((event) => heard.push(event.event))
    Stream.last.onopen?.()
    expect(live.connected).toBe(true)
    Stream.last.onmessage?.({ data: '{"event":"rules","version":2}' })
    deaf()
    Stream.last.onmessage?.({ data: '{"event":"rules","version":3}' })
    expect(heard).toEqual(['rules'])
  })

  it('tells pages to read anew after the line was down', () => {
    const live = useLive()
    live.open()
    const heard: string[] = []
    live.listen((event) => heard.push(event.event))
    Stream.last.onopen?.()
    expect(heard).toEqual([])
    Stream.last.onerror?.()
    expect(live.connected).toBe(false)
    Stream.last.onopen?.()
    expect(heard).toEqual(['missed'])
  })

  it('opens one line, and closes it', () => {
    const live = useLive()
    live.open()
    const first = Stream.last
    live.open()
    expect(Stream.last).toBe(first)
    live.close()
    expect(first.closed).toBe(true)
    expect(live.connected).toBe(false)
  })
})
