import { expect, test } from 'vitest'
import { alone, pair, sign } from './matching'

const side = (identity: string | null, account: number | null) => ({ identity, account, name: 'x' })
const reason = { code: 'no_identity_matches' as const, args: {}, text: '' }
const view = (own: ReturnType<typeof side>, candidates: ReturnType<typeof side>[]) => ({
  status: 'needs_review' as const,
  reason,
  rule: null,
  own,
  candidates,
  rows: [],
})

test('a candidate gives an identity and an account, from either side', () => {
  expect(pair(view(side('ada', null), [side(null, 7)]), 0)).toEqual({ identity: 'ada', account: 7 })
  expect(pair(view(side(null, 7), [side('ada', null), side('bram', null)]), 1)).toEqual({
    identity: 'bram',
    account: 7,
  })
  const moved = view(side('ada', null), [side(null, 7), side('bram', null)])
  expect(pair(moved, 0)).toEqual({ identity: 'ada', account: 7 })
  expect(pair(moved, 1)).toEqual({ identity: 'bram', account: 7 })
  expect(pair(view(side('ada', null), []), 0)).toBeNull()
})

test('new and skip are about the record without counterpart', () => {
  const line = {
    status: 'needs_review' as const,
    label: 'Ada',
    account_name: null,
    candidates: 1,
    reason,
    rule: null,
  }
  expect(alone({ ...line, identity: 'ada', account: 7 }, 'new')).toEqual({ answer: 'new', identity: 'ada' })
  expect(alone({ ...line, identity: null, account: 7 }, 'skip')).toEqual({ answer: 'skip', account: 7 })
})

test('a missing value says nothing against a candidate', () => {
  expect(sign('a', { value: 'A', same: true }).kind).toBe('same')
  expect(sign('a', { value: 'b', same: false }).kind).toBe('other')
  expect(sign('a', { value: '—', same: false }).kind).toBe('missing')
})
