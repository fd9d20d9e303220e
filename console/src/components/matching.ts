import type { MatchStatus, Schemas } from '@/api/client'

type Line = Schemas['MatchLine']
type Case = Schemas['MatchCase']
type Answer = Schemas['NewMatchAnswer']

/** What needs somebody, and what does not. */
export const open: MatchStatus[] = [
  'ambiguous',
  'needs_review',
  'claimed_twice',
  'already_linked',
  'key_reassigned',
]
export const settled: MatchStatus[] = ['will_link', 'new', 'orphaned', 'skipped', 'linked']

export const statuses: Record<MatchStatus, string> = {
  ambiguous: 'several match',
  needs_review: 'needs review',
  claimed_twice: 'claimed twice',
  already_linked: 'account already linked',
  key_reassigned: 'key reassigned',
  will_link: 'will be linked',
  new: 'new',
  orphaned: 'orphaned',
  skipped: 'skipped',
  linked: 'linked',
}

/** The two that are meant when a candidate is chosen. */
export function pair(view: Case, at: number): { identity: string; account: number } | null {
  const side = view.candidates[at]
  if (!side) return null
  // Of a key that moved, an identity among the candidates is whom the account may belong to instead.
  const identity = side.identity ?? view.own.identity
  const account = side.account ?? view.own.account ?? view.candidates.find((c) => c.account)?.account
  return identity && account ? { identity, account } : null
}

/** What is said of a line without a look at its candidates. */
export function alone(line: Line, said: 'new' | 'skip'): Answer {
  return line.identity ? { said, identity: line.identity } : { said, account: line.account ?? null }
}

/** How a candidate's value compares. One that is missing on a side says nothing against it. */
export function sign(own: string, value: Schemas['MatchValue']) {
  if (value.same) return { kind: 'same', mark: '=', said: 'the same' }
  if (own === '—' || value.value === '—') return { kind: 'missing', mark: '', said: 'on one side only' }
  return { kind: 'other', mark: '≠', said: 'different' }
}
