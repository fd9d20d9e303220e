import type { Schemas } from '@/api/client'
import { minute } from '@/words'

export interface TimelinePoint {
  key: string
  what: string
  when: string
  tone: 'past' | 'now' | 'coming'
}

/** The moments in order, with today between the past and the planned ones. */
export function timeline(moments: Schemas['Moment'][], now = new Date().toISOString()): TimelinePoint[] {
  const of = (moment: Schemas['Moment']): TimelinePoint => ({
    key: moment.transition + moment.at,
    what: moment.what,
    when: moment.shown,
    tone: moment.past ? 'past' : 'coming',
  })
  const past = moments.filter((moment) => moment.past).map(of)
  const coming = moments.filter((moment) => !moment.past).map(of)
  return [...past, { key: 'now', what: 'today', when: minute(now), tone: 'now' }, ...coming]
}
