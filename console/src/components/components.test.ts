import { mount } from '@vue/test-utils'
import { describe, expect, it } from 'vitest'
import type { Change, RuleLine, Schemas, System } from '@/api/client'
import { Refusal } from '@/api/client'
import ChangeList from './ChangeList.vue'
import Fetched from './Fetched.vue'
import Mark from './Mark.vue'
import RuleTable from './RuleTable.vue'
import SystemSheet from './SystemSheet.vue'

const stubs = { RouterLink: { props: ['to'], template: '<a><slot /></a>' } }
const global = {
  stubs: { ...stubs, Button: { props: ['label'], template: '<button>{{ label }}</button>' }, Skeleton: true },
}

function change(over: Partial<Change> = {}): Change {
  return {
    id: 7,
    change_set: 2,
    system: 'berthing',
    object: 'person',
    identity: 'i1',
    label: 'Ada <b>Lind</b>',
    kind: 'update',
    state: 'done',
    values: [{ attribute: 'title', before: [], after: ['Mate', 'Cook'], rule: 'berthing.toml:24' }],
    reason: { code: 'values_differ', args: { attributes: ['title'] }, text: 'title differs' },
    rule: 'berthing.toml:24',
    hold: null,
    error: null,
    remedy: null,
    attempts: 1,
    settled_at: null,
    ...over,
  }
}

function system(over: Partial<System> = {}): System {
  return {
    name: 'harbour',
    kind: 'ldap',
    address: 'ldap://127.0.0.1:389',
    settings: {},
    writable: [],
    paused: false,
    armed: true,
    host: null,
    profile: [],
    health: 'healthy',
    checked_at: null,
    steps: [],
    accounts: 306,
    linked: 293,
    full_reads: [],
    roles: ['source'],
    schedule: {
      watch: false,
      mode: null,
      poll_seconds: null,
      full_read_seconds: null,
      write_blackouts: [],
    },
    watchers: [],
    ...over,
  }
}

describe('a mark', () => {
  it('shows the label of a code, in its tone', () => {
    const mark = mount(Mark, { props: { word: 'out_of_scope' } })
    expect(mark.text()).toBe('out of scope')
    expect(mark.classes()).toContain('plain')
    expect(mount(Mark, { props: { word: 'failed' } }).classes()).toContain('bad')
  })
})

describe('a list of changes', () => {
  it('shows values before and after, and data is never markup', () => {
    const list = mount(ChangeList, { props: { changes: [change()] } })
    expect(list.find('.before').text()).toBe('—')
    expect(list.find('.after').text()).toBe('Mate · Cook')
    expect(list.find('b').exists()).toBe(false)
    expect(list.text()).toContain('Ada <b>Lind</b>')
  })

  it('shows why a change is on hold, and what to do about a failed one', () => {
    const held = mount(ChangeList, {
      props: {
        changes: [
          change({
            state: 'on_hold',
            hold: {
              code: 'paused',
              args: { system: 'berthing' },
              text: 'berthing is paused',
              cause: 'paused',
            },
          }),
        ],
      },
    })
    expect(held.text()).toContain('On hold: berthing is paused')
    const failed = mount(ChangeList, {
      props: { changes: [change({ state: 'failed', error: 'HTTP 409', remedy: 'correct the value' })] },
    })
    expect(failed.find('.error').text()).toContain('HTTP 409')
    expect(failed.text()).toContain('to do: correct the value')
  })

  it('opens a few at once and keeps many closed', () => {
    const many = [1, 2, 3, 4, 5].map((id) => change({ id }))
    expect(
      mount(ChangeList, { props: { changes: many } })
        .find('details')
        .attributes('open'),
    ).toBeUndefined()
    expect(
      mount(ChangeList, { props: { changes: [change()] } })
        .find('details')
        .attributes('open'),
    ).toBeDefined()
  })
})

describe('a system', () => {
  const text = (over: Partial<System>) => mount(SystemSheet, { props: { system: system(over) }, global })

  it('shows whether it is healthy, unreachable, not tested or paused', () => {
    expect(text({}).text()).toContain('healthy')
    expect(text({ health: 'unknown' }).text()).toContain('not tested')
    expect(text({ paused: true, health: 'paused' }).text()).toContain('paused')
    const failing = text({
      health: 'unreachable',
      steps: [
        {
          kind: 'bind',
          name: 'Bind accepted',
          state: 'failed',
          message: 'the password is wrong',
          remedy: 'check it',
          code: 'bind_refused',
        },
      ],
    })
    expect(failing.classes()).toContain('bad')
    expect(failing.text()).toContain('Bind accepted: the password is wrong. To do: check it')
  })

  it('shows that a failed read is incomplete', () => {
    const read: Schemas['FullReadView'] = {
      object: 'person',
      state: 'failed',
      object_count: 30,
      started_at: '2026-11-23T08:00:00Z',
      ended_at: null,
      error: 'cut',
      quarantined: 0,
    }
    const broken = text({
      full_reads: [read],
      health: 'degraded',
      health_reason: 'the last read failed: cut',
    })
    expect(broken.text()).toContain('degraded')
    expect(broken.text()).toContain('cut')
  })

  it('shows its access and its role', () => {
    expect(text({}).text()).toContain('read-only')
    expect(text({ writable: ['person'], roles: ['target'] }).text()).toContain('target')
    expect(text({ roles: [] }).text()).toContain('none yet')
    expect(text({ armed: true }).text()).not.toContain('not armed')
    expect(text({ armed: false }).text()).toContain('not armed')
  })
})

describe('a table of rules', () => {
  it('shows each rule with its location, and nothing without rules', () => {
    const lines: RuleLine[] = [
      { name: 'mail', text: 'lower(account.mail)', note: 'required', location: 'harbour.toml:28' },
    ]
    const head: [string, string] = ['Attribute', 'Expression']
    const table = mount(RuleTable, { props: { title: 'Inbound', lines, head } })
    expect(table.find('code').text()).toBe('lower(account.mail)')
    expect(table.text()).toContain('harbour.toml:28')
    expect(mount(RuleTable, { props: { title: 'Inbound', lines: [], head } }).text()).toBe('')
  })
})

describe('what is fetched', () => {
  const slots = { default: '<p>content</p>', empty: 'nobody yet' }

  it('is loading, empty, broken or there, and never two of them', () => {
    const of = (props: { loading: boolean; error: Refusal | null; empty?: boolean }) =>
      mount(Fetched, { props, slots, global })
    expect(of({ loading: true, error: null }).attributes('aria-busy')).toBe('true')
    expect(of({ loading: false, error: null, empty: true }).text()).toBe('nobody yet')
    expect(of({ loading: false, error: null }).text()).toBe('content')
    const error = new Refusal({ detail: 'the store failed', remedy: 'see the log' }, 500)
    const broken = of({ loading: true, error })
    expect(broken.attributes('role')).toBe('alert')
    expect(broken.text()).toContain('the store failed')
    expect(broken.text()).toContain('To do: see the log')
    expect(broken.text()).not.toContain('content')
  })

  it('retries on request', async () => {
    const broken = mount(Fetched, {
      props: { loading: false, error: new Refusal({ detail: 'x' }, 500) },
      slots,
      global,
    })
    await broken.find('button').trigger('click')
    expect(broken.emitted('retry')).toHaveLength(1)
  })
})
