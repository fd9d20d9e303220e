import { describe, expect, it } from 'vitest'
import { ago, count, freshness, tone, values, verdict } from './words'

describe('words', () => {
  it('has a tone for each verdict, and a fall-back for other codes', () => {
    expect(verdict('out_of_scope').text).toBe('out of scope')
    expect(tone('disable')).toBe('bad')
    expect(tone('something_new')).toBe('plain')
  })

  it('rounds the age of an instant', () => {
    const now = Date.parse('2026-11-23T12:00:00Z')
    expect(ago('2026-11-23T11:59:30Z', now)).toBe('30 s ago')
    expect(ago('2026-11-23T09:30:00Z', now)).toBe('2 h ago')
    expect(ago('2026-11-20T12:00:00Z', now)).toBe('3 days ago')
    expect(ago(null, now)).toBe('never')
  })

  it('shows the age of data', () => {
    const now = Date.parse('2026-11-23T12:00:00Z')
    expect(freshness({ as_of: '2026-11-23T11:55:00Z', connected: false }, now)).toBe('5 min ago')
    expect(freshness({ as_of: '2026-11-23T11:55:00Z', connected: true }, now)).toBe('live')
    expect(freshness({ as_of: null, connected: false }, now)).toBe('not read yet')
  })

  it('counts and shows what is not there', () => {
    expect(count([{ state: 'done', count: 3 }], 'done')).toBe(3)
    expect(count(undefined, 'done')).toBe(0)
    expect(values([])).toBe('—')
  })
})
