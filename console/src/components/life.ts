import type { Schemas } from '@/api/client'
import { minute } from '@/words'

export interface LifePoint {
  key: string
  what: string
  when: string
  tone: 'past' | 'now' | 'coming'
}

/** The moments of a life in order, with today between those that are over and those that are to come. */
export function lifePoints(moments: Schemas['Moment'][], now = new Date().toISOString()): LifePoint[] {
  const of = (moment: Schemas['Moment']): LifePoint => ({
    key: moment.turn + moment.at,
    what: moment.what,
    when: moment.shown,
    tone: moment.past ? 'past' : 'coming',
  })
  const past = moments.filter((moment) => moment.past).map(of)
  const coming = moments.filter((moment) => !moment.past).map(of)
  return [...past, { key: 'now', what: 'today', when: minute(now), tone: 'now' }, ...coming]
}
