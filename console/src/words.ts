/** Labels of the API's codes, and the tone that each is shown in. */

import type { HoldCause, HoldOwner, ScopeStatus, Verdict } from '@/api/client'

export type Tone = 'good' | 'wait' | 'bad' | 'calm' | 'plain'

const verdicts: Record<Verdict, { text: string; tone: Tone; meaning: string }> = {
  create: { text: 'create', tone: 'good', meaning: 'new accounts' },
  join: { text: 'join', tone: 'calm', meaning: 'existing accounts to link' },
  update: { text: 'update', tone: 'calm', meaning: 'accounts with new values' },
  rename: { text: 'rename', tone: 'calm', meaning: 'accounts to rename or move' },
  enable: { text: 'enable', tone: 'good', meaning: 'accounts to enable' },
  disable: { text: 'disable', tone: 'bad', meaning: 'accounts to disable' },
  on_hold: { text: 'on hold', tone: 'wait', meaning: 'waiting for a condition or a decision' },
  out_of_scope: { text: 'out of scope', tone: 'plain', meaning: 'not processed' },
  orphaned: { text: 'orphaned', tone: 'plain', meaning: 'accounts without an identity' },
  in_sync: { text: 'in sync', tone: 'good', meaning: 'equal to the rules’ values' },
  source: { text: 'source', tone: 'plain', meaning: 'supplying values' },
}

const states: Record<string, Tone> = {
  done: 'good',
  complete: 'good',
  active: 'good',
  in_progress: 'calm',
  partial: 'bad',
  passed: 'good',
  in_sync: 'good',
  proposed: 'calm',
  queued: 'calm',
  sending: 'calm',
  running: 'calm',
  reading: 'calm',
  deciding: 'calm',
  on_hold: 'wait',
  accepted: 'wait',
  unknown: 'wait',
  warned: 'wait',
  leaving: 'wait',
  expected: 'calm',
  away: 'calm',
  revoke: 'bad',
  delete: 'bad',
  password: 'bad',
  move: 'calm',
  grant: 'good',
  failed: 'bad',
  canceled: 'plain',
  left: 'plain',
}

export function verdict(code: Verdict) {
  return verdicts[code]
}

/** The verdict that a query names, if it is one. */
export function verdictOf(query: unknown): Verdict | null {
  return typeof query === 'string' && query in verdicts ? (query as Verdict) : null
}

/** The tone of any code: a verdict, a state, a stage or a kind of change. */
export function tone(code: string): Tone {
  return verdicts[code as Verdict]?.tone ?? states[code] ?? 'plain'
}

/** A person's status in the scope of a system. */
export const scopeStatuses: Record<ScopeStatus, string> = {
  in: 'in scope',
  out: 'out of scope',
  on_hold: 'on hold',
}

export function text(word: string): string {
  return word.replaceAll('_', ' ')
}

export function count<State extends string>(
  list: { state: State; count: number }[] | undefined,
  state: NoInfer<State>,
): number {
  return list?.find((entry) => entry.state === state)?.count ?? 0
}

/** An instant in the reader's time zone, to the second. */
export function time(stamp: string | null | undefined): string {
  if (!stamp) return '—'
  const at = new Date(stamp)
  const two = (n: number) => String(n).padStart(2, '0')
  return `${at.getFullYear()}-${two(at.getMonth() + 1)}-${two(at.getDate())} ${two(at.getHours())}:${two(at.getMinutes())}:${two(at.getSeconds())}`
}

/** The same, to the minute. */
export function minute(stamp: string | null | undefined): string {
  return stamp ? time(stamp).slice(0, 16) : '—'
}

/** A duration in seconds, rounded. */
export function span(seconds: number): string {
  if (seconds < 1) return `${Math.round(seconds * 1000)} ms`
  if (seconds < 120) return `${seconds.toFixed(1)} s`
  if (seconds < 7200) return `${Math.round(seconds / 60)} min`
  return `${Math.round(seconds / 3600)} h`
}

/** The age of an instant, rounded. */
export function ago(stamp: string | null | undefined, now = Date.now()): string {
  if (!stamp) return 'never'
  const seconds = Math.max(0, Math.round((now - new Date(stamp).getTime()) / 1000))
  if (seconds < 60) return `${seconds} s ago`
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`
  if (seconds < 86400) return `${Math.floor(seconds / 3600)} h ago`
  return `${Math.floor(seconds / 86400)} days ago`
}

/** The age of the data of a system. */
export function freshness(
  of: { as_of?: string | null; connected: boolean } | null | undefined,
  now = Date.now(),
): string {
  if (!of) return '—'
  if (of.connected) return 'live'
  return of.as_of ? ago(of.as_of, now) : 'not read yet'
}

export function values(list: string[] | undefined): string {
  return list && list.length > 0 ? list.join(' · ') : '—'
}

/** A number with its noun. */
export function plural(number: number, noun: string): string {
  return `${number} ${noun}${number === 1 ? '' : 's'}`
}

/** The causes of holds. */
export const causes: Record<HoldCause, string> = {
  guard: 'Held by guard',
  awaiting_approval: 'Awaiting approval',
  needs_review: 'Needs review',
  failed: 'Failed',
  retried_later: 'Retried later',
  missing_value: 'Missing value',
  duplicate_value: 'Duplicate value',
  invalid_value: 'Invalid value',
  rule_error: 'Rule error',
  waiting_for_account: 'Waiting for account',
  waiting_for_seat: 'Waiting for seat',
  waiting_for_day: 'Waiting for day',
  waiting_for_step: 'Waiting for step',
  unknown_outcome: 'Unknown outcome',
  not_read: 'Not read',
  external_change: 'External change',
  deleted_there: 'Deleted in system',
  discarded: 'Discarded',
  paused: 'Paused',
  not_armed: 'Not armed',
  not_in_preview: 'Not in preview',
  link_only: 'Link only',
}

/** Who can end a hold. */
export const owners: Record<HoldOwner, string> = {
  operator: 'An operator',
  approver: 'An approver',
  source_owner: 'The owner of the source',
  rule_author: 'The author of the rules',
  system_owner: 'The owner of the target',
  automatic: 'Ends automatically',
}
