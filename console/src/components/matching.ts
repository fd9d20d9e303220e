import type { MatchStatus, Schemas } from '@/api/client'

type Line = Schemas['MatchLine']
type Case = Schemas['MatchCase']
type Answer = Schemas['NewMatchAnswer']

/** Statuses that need review, and those that do not. */
export const open: MatchStatus[] = [
  'ambiguous',
  'needs_review',
  'claimed_twice',
  'already_linked',
  'key_reassigned',
]
export const settled: MatchStatus[] = ['will_link', 'new', 'orphaned', 'skipped', 'linked']

export const statuses: Record<MatchStatus, string> = {
  ambiguous: 'ambiguous',
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

/** The identity and the account that a chosen candidate stands for. */
export function pair(view: Case, at: number): { identity: string; account: number } | null {
  const side = view.candidates[at]
  if (!side) return null
  // If a key was reassigned, a candidate is an identity that the account may belong to instead.
  const identity = side.identity ?? view.own.identity
  const account = side.account ?? view.own.account ?? view.candidates.find((c) => c.account)?.account
  return identity && account ? { identity, account } : null
}

/** An answer about a record that needs no candidate. */
export function alone(line: Line, answer: 'new' | 'skip'): Answer {
  return line.identity ? { answer, identity: line.identity } : { answer, account: line.account ?? null }
}

/** Compares a candidate's value. A value that is missing on one side is no difference. */
export function sign(own: string, value: Schemas['MatchValue']) {
  if (value.same) return { kind: 'same', mark: '=', label: 'the same' }
  if (own === '—' || value.value === '—') return { kind: 'missing', mark: '', label: 'on one side only' }
  return { kind: 'other', mark: '≠', label: 'different' }
}
