import { flushPromises, mount } from '@vue/test-utils'
import { createPinia, setActivePinia } from 'pinia'
import PrimeVue from 'primevue/config'
import ToastService from 'primevue/toastservice'
import { beforeEach, describe, expect, it, vi } from 'vitest'
import { createMemoryHistory, createRouter } from 'vue-router'

const calls = vi.hoisted(() => ({
  GET: vi.fn(),
  POST: vi.fn(),
  PATCH: vi.fn(),
  PUT: vi.fn(),
  DELETE: vi.fn(),
}))
vi.mock('@/api/client', async (original) => ({ ...(await original<object>()), api: calls }))

import ChangeSet from './ChangeSet.vue'
import Changes from './Changes.vue'
import Decisions from './Decisions.vue'
import Settings from './Settings.vue'
import Identities from './Identities.vue'
import Leavers from './Leavers.vue'
import Licenses from './Licenses.vue'
import Overview from './Overview.vue'
import GroupList from '@/components/GroupList.vue'
import LifecyclePanel from '@/components/LifecyclePanel.vue'
import PasswordSet from '@/components/PasswordSet.vue'
import Connect from './Connect.vue'
import Roles from './Roles.vue'
import Rules from './Rules.vue'
import Scope from './Scope.vue'
import SignIn from './SignIn.vue'
import System from './System.vue'
import Notifications from './Notifications.vue'

type Answers = Record<string, unknown>

/** Answers each path with its data; what is not there is refused. */
function answer(answers: Answers) {
  const reply = (path: string) =>
    path in answers
      ? Promise.resolve({ data: answers[path], response: new Response(null, { status: 200 }) })
      : Promise.resolve({
          error: { detail: `nothing at ${path}` },
          response: new Response(null, { status: 404 }),
        })
  for (const call of Object.values(calls)) call.mockReset().mockImplementation(reply)
}

async function open(page: object, props: Record<string, unknown> = {}, at = '/') {
  const routes = ['overview', 'systems', 'identities', 'changes', 'rules', 'sign-in'].map((name) => ({
    path: name === 'overview' ? '/' : `/${name}`,
    name,
    component: { template: '<div />' },
  }))
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [
      ...routes,
      { path: '/systems/new', name: 'connect', component: { template: '<div />' } },
      { path: '/systems/:name/scope', name: 'scope', component: { template: '<div />' } },
      { path: '/systems/:name/matches', name: 'matches', component: { template: '<div />' } },
      { path: '/systems/:name', name: 'system', component: { template: '<div />' } },
      { path: '/identities/roles', name: 'roles', component: { template: '<div />' } },
      { path: '/identities/licenses', name: 'licenses', component: { template: '<div />' } },
      { path: '/identities/notifications', name: 'notifications', component: { template: '<div />' } },
      { path: '/identities/leavers', name: 'leavers', component: { template: '<div />' } },
      { path: '/identities/:id', name: 'identity', component: { template: '<div />' } },
      { path: '/rules/history', name: 'history', component: { template: '<div />' } },
      { path: '/rules/drafts/:id', name: 'draft', component: { template: '<div />' } },
      { path: '/on-hold', name: 'on-hold', component: { template: '<div />' } },
      { path: '/decisions', name: 'decisions', component: { template: '<div />' } },
      { path: '/changes/:id', name: 'change-set', component: { template: '<div />' } },
    ],
  })
  await router.push(at)
  const pinia = createPinia()
  setActivePinia(pinia)
  const wrapper = mount(page, {
    props,
    global: { plugins: [pinia, router, [PrimeVue, {}], ToastService] },
    attachTo: document.body,
  })
  await flushPromises()
  return { wrapper, router }
}

const system = {
  name: 'harbour',
  kind: 'ldap',
  address: 'ldap://127.0.0.1:389',
  settings: {},
  writable: [],
  paused: false,
  armed: true,
  host: null,
  profile: [{ label: 'Product', text: 'OpenLDAP' }],
  health: 'healthy',
  health_reason: null,
  all_settings: {},
  checked_at: '2026-11-23T08:00:00Z',
  steps: [{ name: 'Bind accepted', state: 'passed', message: 'cn=eager-tide', remedy: null, code: null }],
  accounts: 306,
  linked: 0,
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
}
const run = {
  id: 2,
  kind: 'run',
  state: 'done',
  rule_version: 1,
  principal: 'first operator',
  preview: 1,
  started_at: '2026-11-23T08:00:00Z',
  ended_at: '2026-11-23T08:00:02Z',
  note: null,
  result: 'complete',
  unread_systems: [] as string[],
  verdicts: [{ verdict: 'in_sync', count: 290 }],
  states: [{ state: 'done', count: 302 }],
}
const overview = {
  systems: [system],
  identities: [{ stage: 'active', count: 293 }],
  rule_version: 1,
  last_auto_run: null,
  last_run: run,
  last_preview: null,
  attention: [] as object[],
  holds: [] as object[],
  alerts: [],
}

beforeEach(() => {
  document.body.innerHTML = ''
})

const outside = {
  code: 'condition_not_met',
  args: { words: 'address outside our domain' },
  text: 'address outside our domain',
}

describe('the overview', () => {
  const sentence = async (over: object) => {
    answer({ '/api/v1/overview': { ...overview, ...over } })
    return (await open(Overview)).wrapper.find('h1').text()
  }

  const needs = (kind: string, severity: string, message: string, more: object = {}) => ({
    kind,
    severity,
    message,
    system: null,
    count: 1,
    names: [],
    detail: null,
    command: null,
    ...more,
  })

  it('says in one sentence whether everything is well, the worst first', async () => {
    expect(await sentence({})).toBe('All changes are applied. Nothing needs attention.')
    const leavers = needs('open_access', 'critical', '43 leavers still have access.', {
      count: 43,
      names: ['Ada', 'Bo'],
    })
    const unreachable = needs('unreachable', 'warning', 'berthing is unreachable.', { system: 'berthing' })
    expect(await sentence({ attention: [leavers, unreachable] })).toBe('43 leavers still have access.')
  })

  it('links all that needs attention to where it is answered, and counts who is on hold', async () => {
    const attention = [
      needs('open_access', 'critical', '43 leavers still have access.', { count: 43, names: ['Ada', 'Bo'] }),
      needs('unreachable', 'warning', 'berthing is unreachable.', { system: 'berthing', detail: 'refused' }),
      needs('on_hold', 'warning', '3 records are on hold.', { count: 3 }),
    ]
    const holds = [
      { cause: 'missing_value', count: 3 },
      { cause: 'failed', count: 2 },
    ]
    answer({ '/api/v1/overview': { ...overview, attention, holds } })
    const { wrapper } = await open(Overview)
    const links = wrapper.findAll('.attention a').map((link) => link.attributes('href'))
    expect(links).toEqual(['/identities/leavers', '/systems/berthing', '/on-hold'])
    expect(wrapper.find('.attention').text()).toContain('and 41 more')
    const numbers = wrapper.findAll('.tile .number').map((number) => number.text())
    expect(numbers.slice(1, 3)).toEqual(['5', '2'])
  })

  it('says what is wrong when the service does not answer well, and tries again', async () => {
    answer({})
    const { wrapper } = await open(Overview)
    expect(wrapper.find('[role=alert]').text()).toContain('nothing at /api/v1/overview')
    answer({ '/api/v1/overview': overview })
    await wrapper.find('[role=alert] button').trigger('click')
    await flushPromises()
    expect(wrapper.find('h1').text()).toBe('All changes are applied. Nothing needs attention.')
  })

  it('begins a preview and goes to it', async () => {
    answer({ '/api/v1/overview': overview, '/api/v1/change-sets': { ...run, id: 7 } })
    const { wrapper, router } = await open(Overview)
    await wrapper
      .findAll('button')
      .find((b) => b.text().includes('Preview a run'))!
      .trigger('click')
    await flushPromises()
    expect(calls.POST.mock.calls[0]![1]).toMatchObject({ body: { kind: 'preview' } })
    expect(router.currentRoute.value.fullPath).toBe('/changes/7')
  })
})

describe('signing in', () => {
  it('waits for a token, says what is wrong with it, and goes where one wanted to go', async () => {
    answer({})
    const { wrapper, router } = await open(SignIn, {}, '/sign-in?to=/changes/3')
    const button = () => wrapper.find('button[type=submit]')
    expect(button().attributes('disabled')).toBeDefined()
    await wrapper.find('#token').setValue('wrong')
    expect(button().attributes('disabled')).toBeUndefined()
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(wrapper.find('[role=alert]').text()).toContain('nothing at /api/v1/session')
    vi.stubGlobal(
      'EventSource',
      class {
        close() {}
      },
    )
    answer({ '/api/v1/session': { name: 'first operator', version: '0' } })
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(router.currentRoute.value.fullPath).toBe('/changes/3')
  })

  it('never leads to another site', async () => {
    vi.stubGlobal(
      'EventSource',
      class {
        close() {}
      },
    )
    for (const to of ['//elsewhere.example', 'https://elsewhere.example', '/\\elsewhere.example']) {
      answer({ '/api/v1/session': { name: 'x', version: '0' } })
      const { wrapper, router } = await open(SignIn, {}, `/sign-in?to=${encodeURIComponent(to)}`)
      await wrapper.find('#token').setValue('t')
      await wrapper.find('form').trigger('submit')
      await flushPromises()
      expect(router.currentRoute.value.fullPath).toBe('/')
    }
  })
})

describe('a change set', () => {
  const line = (seq: number, verdict: string, label: string) => ({
    seq,
    system: 'berthing',
    object: 'person',
    identity: `i${seq}`,
    account: null,
    label,
    verdict,
    reason: { code: 'in_sync', args: {}, text: `because ${seq}` },
    rule: 'berthing.toml:4',
  })
  const lines = {
    items: [line(1, 'on_hold', 'Ada'), line(2, 'create', 'Bo'), line(3, 'in_sync', 'Cy')],
    next: null,
  }
  const preview = {
    ...run,
    id: 1,
    kind: 'preview',
    verdicts: [
      { verdict: 'create', count: 1 },
      { verdict: 'on_hold', count: 1 },
      { verdict: 'in_sync', count: 1 },
    ],
    states: [{ state: 'proposed', count: 1 }],
  }

  it('shows who needs attention first, and leaves out who needs none', async () => {
    answer({ '/api/v1/change-sets/{id}': preview, '/api/v1/change-sets/{id}/lines': lines })
    const { wrapper } = await open(ChangeSet, { id: '1' })
    expect(wrapper.text()).toContain('Nothing was written.')
    expect(wrapper.findAll('button.tally').map((b) => b.find('.what').text())).toEqual([
      'on hold',
      'create',
      'in sync',
    ])
    expect(wrapper.text()).toContain('because 1')
    expect(wrapper.text()).not.toContain('because 3')
    expect(wrapper.findAll('button').some((b) => b.text() === 'Apply this change…')).toBe(true)
  })

  it('has nothing to do when nothing is proposed, and says so on the button', async () => {
    answer({
      '/api/v1/change-sets/{id}': { ...preview, states: [] },
      '/api/v1/change-sets/{id}/lines': lines,
    })
    const { wrapper } = await open(ChangeSet, { id: '1' })
    const button = wrapper.findAll('button').find((b) => b.text() === 'No changes to apply')!
    expect(button.attributes('disabled')).toBeDefined()
  })

  it('sums a run up, failures and all', async () => {
    const failed = {
      ...run,
      result: 'partial',
      unread_systems: ['harbour'],
      states: [
        { state: 'done', count: 3 },
        { state: 'failed', count: 2 },
      ],
      note: 'harbour could not be read',
    }
    answer({
      '/api/v1/change-sets/{id}': failed,
      '/api/v1/change-sets/{id}/lines': { items: [], next: null },
    })
    const { wrapper } = await open(ChangeSet, { id: '2' })
    expect(wrapper.find('.run-counts').text().replace(/\s+/g, ' ')).toContain(
      '3 changes done, 2 failed (show only these), 0 on hold',
    )
    expect(wrapper.text()).toContain('harbour could not be read')
    expect(wrapper.text()).toContain('No matching lines.')
  })
})

describe('a system', () => {
  it('stays read-only until somebody has read what that means', async () => {
    answer({
      '/api/v1/systems/{name}': system,
      '/api/v1/systems/{name}/accounts': { items: [], next: null },
      '/api/v1/systems/{name}/permissions': [
        {
          operation: 'read',
          entries: ['ou=people'],
          is_subtree: true,
          attributes: ['mail'],
          reason: 'matching reads it',
        },
      ],
    })
    const { wrapper } = await open(System, { name: 'harbour' })
    expect(wrapper.text()).toContain('No matching accounts.')
    expect(wrapper.text()).toContain('OpenLDAP')
    expect(wrapper.text()).toMatch(/Read\s+ou=people and below: mail/)
    await wrapper
      .findAll('button')
      .find((b) => b.text().includes('Enable writes'))!
      .trigger('click')
    await flushPromises()
    expect(calls.PATCH).not.toHaveBeenCalled()
    expect(document.body.textContent).toContain('create, change and disable accounts')
  })
})

describe('a scope', () => {
  const view = {
    scope: { within: [], except: [], groups: [], not_groups: [], filter: null, conditions: [] },
    file: 'harbour.toml',
    totals: [
      { status: 'in', count: 293 },
      { status: 'out', count: 9 },
      { status: 'on_hold', count: 4 },
    ],
    counts: [
      {
        status: 'out',
        code: 'condition_not_met',
        reason: 'address outside our domain',
        rule: 'harbour.toml:12',
        count: 2,
      },
    ],
    lines: [
      {
        status: 'out',
        label: 'Agent',
        account: 'uid=agent',
        identity: null,
        reason: outside,
        rule: null,
      },
    ],
    found: 1,
  }

  it('filters by status', async () => {
    answer({ '/api/v1/systems/{name}/scope': view, '/api/v1/systems/{name}': system })
    const { wrapper } = await open(Scope, { name: 'harbour' })
    calls.GET.mockClear()
    await wrapper.find('button.status.out').trigger('click')
    await vi.waitFor(() =>
      expect(calls.GET).toHaveBeenCalledWith('/api/v1/systems/{name}/scope', {
        params: { path: { name: 'harbour' }, query: { status: 'out', limit: 300 } },
      }),
    )
  })

  it('counts who is in, out and held, and tries an edit before it is saved', async () => {
    answer({ '/api/v1/systems/{name}/scope': view, '/api/v1/systems/{name}': { ...system, kind: 'scim' } })
    calls.POST.mockResolvedValue({
      data: {
        ...view,
        moves: [{ from: 'in', to: 'on_hold', count: 1, lines: view.lines }],
        file: { name: 'harbour.toml', text: '' },
      },
      response: new Response(null, { status: 200 }),
    })
    vi.useFakeTimers({ shouldAdvanceTime: true })
    const { wrapper } = await open(Scope, { name: 'harbour' })
    expect(wrapper.text()).toContain('293 in scope')
    expect(wrapper.findAll('tbody tr').at(0)?.text()).toContain('out of scope')
    expect(wrapper.text()).toContain('address outside our domain')
    const button = (label: string) => wrapper.findAll('button').find((b) => b.text().includes(label))!
    await button('Edit scope').trigger('click')
    expect(button('Save and publish').attributes('disabled')).toBeDefined()
    await wrapper.find('#groups').setValue('cn=deck-watch')
    await vi.advanceTimersByTimeAsync(600)
    await flushPromises()
    expect(wrapper.text()).toMatch(/1\s*from in scope to\s*on hold/)
    expect(calls.PUT).not.toHaveBeenCalled()
    vi.useRealTimers()
  })
})

describe('connecting a system', () => {
  it('says why it cannot go on, and what is missing', async () => {
    answer({})
    const { wrapper } = await open(Connect)
    expect(wrapper.text()).toContain('To continue, give the system a name')
    await wrapper.find('#name').setValue('harbour')
    expect(wrapper.text()).toContain('To continue, give the address')
    await wrapper.find('#url').setValue('ldap://harbour.skerry.example')
    await wrapper.find('#base').setValue('dc=e')
    expect(wrapper.text()).toContain('The test stores nothing.')
    await wrapper.find('#tls').setValue('none')
    await wrapper.find('#secret').setValue('pw')
    expect(wrapper.text()).toContain('clear text')
  })
})

describe('the rules', () => {
  it('say how to publish some while there are none', async () => {
    answer({
      '/api/v1/rules': { version: 0, files: [], systems: [], identities: [], guards: [], faults: [] },
    })
    expect((await open(Rules)).wrapper.text()).toContain('eager-tide rules publish FOLDER')
  })

  it('offer the reads that they need, each system once', async () => {
    const unread = (system: string, object: string) => ({
      system,
      object,
      as_of: null,
      connected: false,
      action_needed: 'was never read in full',
      schedule_warnings: [],
    })
    answer({
      '/api/v1/rules': {
        ...{ version: 2, files: [], systems: [], identities: [], guards: [], faults: [], webhooks: [] },
        required_reads: [
          unread('harbour', 'group'),
          unread('berthing', 'person'),
          unread('berthing', 'group'),
        ],
      },
      '/api/v1/rules/drafts': [],
      '/api/v1/systems/{name}/read': [
        { object: 'group', object_count: 4, absent: 0, quarantined: 0, error: null },
      ],
    })
    const { wrapper } = await open(Rules)
    expect(wrapper.text()).toContain('type group was never read in full (harbour, berthing)')
    const button = wrapper.findAll('button').find((one) => one.text() === 'Read now')
    await button?.trigger('click')
    await flushPromises()
    const read = calls.POST.mock.calls.map(([, options]) => options.params.path.name)
    expect(read).toEqual(['harbour', 'berthing'])
  })
})

describe('identities', () => {
  it('tell why somebody has none', async () => {
    const account = {
      system: 'harbour',
      verdict: 'out_of_scope',
      reason: outside,
      rule: 'harbour.toml:12',
      values: [],
    }
    answer({
      '/api/v1/identities': { items: [], next: null },
      '/api/v1/why': [
        { label: 'Ticket Kiosk', identity: null, stage: null, values: [], accounts: [account] },
      ],
    })
    const { wrapper } = await open(Identities)
    expect(wrapper.text()).toContain('The first run creates identities.')
    await wrapper.find('input').setValue('kiosk')
    await wrapper
      .findAll('button')
      .find((b) => b.text().includes('Explain'))!
      .trigger('click')
    await flushPromises()
    expect(wrapper.text()).toContain('address outside our domain')
  })
})

describe('decisions', () => {
  const waiting = {
    id: 'approval-0-abc',
    kind: 'approval',
    system: 'berthing',
    title: 'Ada Quay: update in berthing',
    message: 'titles: level 1 of 2, ada',
    count: 1,
    names: ['Ada Quay'],
    answers: ['approve', 'reject'],
    blocked: null as string | null,
  }
  it.each(['approve', 'reject'])('%s with a comment', async (verb) => {
    document.body.innerHTML = ''
    const label = verb === 'approve' ? 'Approve' : 'Reject'
    answer({ '/api/v1/decisions': [waiting] })
    const { wrapper } = await open(Decisions)
    expect(wrapper.text()).toContain('Awaiting approval')
    await wrapper
      .findAll('button')
      .find((b) => b.text() === `${label}…`)!
      .trigger('click')
    await flushPromises()
    const dialog = [...document.querySelectorAll('.p-dialog')].at(-1)!
    const comment = dialog.querySelector('textarea')!
    comment.value = 'seen the papers'
    comment.dispatchEvent(new Event('input'))
    const send = [...dialog.querySelectorAll('button')].find((b) => b.textContent?.includes(label))!
    send.click()
    await flushPromises()
    expect(calls.POST).toHaveBeenCalledWith('/api/v1/decisions', {
      body: { id: 'approval-0-abc', answer: verb, comment: 'seen the papers', chosen: [] },
    })
  })
  it('let whoever says yes choose, and send nothing before they did', async () => {
    document.body.innerHTML = ''
    const offers = ['join choir in crewhall', 'join lookouts in crewhall'].map((text, n) => ({
      id: `f${n}`,
      text,
    }))
    answer({ '/api/v1/decisions': [{ ...waiting, count: 2, offers, choose_up_to: 1 }] })
    const { wrapper } = await open(Decisions)
    const yes = wrapper.findAll('button').find((b) => b.text() === 'Approve…')
    await yes?.trigger('click')
    await flushPromises()
    const dialog = [...document.querySelectorAll('.p-dialog')].at(-1)!
    expect(dialog.textContent).toContain('Choose one; the others are rejected')
    const send = () =>
      [...dialog.querySelectorAll('button')].find((b) => b.textContent?.startsWith('Approve'))!
    expect(send().disabled).toBe(true)
    const second = dialog.querySelectorAll<HTMLInputElement>('input[type=radio]')[1]!
    second.checked = true
    second.dispatchEvent(new Event('change'))
    await flushPromises()
    send().click()
    await flushPromises()
    const body = { id: 'approval-0-abc', answer: 'approve', comment: '', chosen: ['f1'] }
    expect(calls.POST).toHaveBeenCalledWith('/api/v1/decisions', { body })
  })
  it('say why somebody may not answer, and offer nothing', async () => {
    answer({ '/api/v1/decisions': [{ ...waiting, blocked: 'this level is for ada' }] })
    const { wrapper } = await open(Decisions)
    expect(wrapper.text()).toContain('You cannot answer this: this level is for ada.')
    expect(wrapper.findAll('button').filter((b) => b.text() === 'Approve…')).toHaveLength(0)
  })
})

describe('settings', () => {
  it('show an operator’s token once, and say why one cannot be ended', async () => {
    const ada = {
      name: 'ada',
      groups: ['masters'],
      identity: null,
      person: null,
      created_at: run.started_at,
      ended_at: null,
    }
    answer({ '/api/v1/operators': [ada] })
    const { wrapper } = await open(Settings)
    expect(wrapper.text()).toContain('masters')
    await wrapper
      .findAll('button')
      .find((b) => b.text() === 'Deactivate…')!
      .trigger('click')
    await flushPromises()
    const end = [...document.querySelectorAll('.p-dialog button')].find(
      (b) => b.textContent === 'Deactivate',
    )!
    ;(end as HTMLButtonElement).click()
    await flushPromises()
    expect(wrapper.find('[role=alert]').text()).toContain('nothing at /api/v1/operators/{name}')
  })
})

describe('changes', () => {
  it('preview another day, of one system', async () => {
    answer({ '/api/v1/change-sets': [], '/api/v1/systems': [system] })
    const { wrapper } = await open(Changes)
    await wrapper.find('input[type=date]').setValue('2027-01-15')
    await wrapper.find('select').setValue('harbour')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(calls.POST).toHaveBeenCalledWith('/api/v1/change-sets', {
      body: {
        kind: 'preview',
        preview: null,
        without_reading: true,
        as_of: '2027-01-15',
        systems: ['harbour'],
        types: [],
      },
    })
  })
})

describe('leavers', () => {
  const one = {
    identity: 'a1',
    label: 'Ada Lind',
    started_at: '2026-11-27T08:00:00Z',
    confirmed_at: '2026-11-27T08:00:01Z',
    seconds: 0.32,
    done: 4,
    open: [],
    returned_at: null,
  }

  it('say how fast access was closed, and what is open', async () => {
    answer({
      '/api/v1/leavers': { leavers: [one], median_seconds: 0.32, worst_seconds: 4, open: 0, planned: [] },
    })
    const { wrapper } = await open(Leavers)
    expect(wrapper.text()).toContain('All access of leavers is closed: median 320 ms, slowest 4.0 s.')
    const access = {
      system: 'berthing',
      kind: 'disable',
      reason: { code: 'no_answer', args: { system: 'berthing' }, text: 'berthing does not answer' },
    }
    const late = { ...one, seconds: null, open: [access] }
    answer({
      '/api/v1/leavers': { leavers: [late], median_seconds: null, worst_seconds: null, open: 1, planned: [] },
    })
    const again = (await open(Leavers)).wrapper
    expect(again.text()).toContain('1 leaver still has access.')
    expect(again.text()).toContain('berthing: disable. berthing does not answer')
    expect(again.text()).toContain('not yet')
  })
})

describe('what people are given', () => {
  const seats = {
    name: 'training seats',
    system: 'classroom',
    seats: 40,
    used: 38,
    consumed_when: 'account.active == true',
    waiting: [] as object[],
    waiting_count: 0,
    ahead_days: 30,
    forecast: { starting: 4, leaving: 1, needed: 41 },
    rule: 'licenses.toml:2',
  }

  it('seats: the waiting list, or the shortage to come', async () => {
    answer({ '/api/v1/licenses': [] })
    expect((await open(Licenses)).wrapper.text()).toContain('No licenses yet')
    answer({ '/api/v1/licenses': [seats] })
    const short = (await open(Licenses)).wrapper
    expect(short.text()).toContain('training seats will be 1 seat short within 30 days.')
    expect(short.text()).toContain('41 · 1 too many')
    const who = { identity: 'a1', label: 'Ada Lind', order: '2026-12-01' }
    answer({ '/api/v1/licenses': [{ ...seats, waiting: [who], waiting_count: 1 }] })
    const waiting = (await open(Licenses)).wrapper
    expect(waiting.text()).toContain('1 person is waiting for a seat.')
    expect(waiting.text()).toContain('Ada Lind')
    answer({ '/api/v1/licenses': [{ ...seats, forecast: { starting: 1, leaving: 1, needed: 38 } }] })
    expect((await open(Licenses)).wrapper.text()).toContain('There are enough seats, now and')
    answer({ '/api/v1/licenses': [{ ...seats, forecast: null }] })
    expect((await open(Licenses)).wrapper.text()).toContain('Too many people change within 30 days')
  })

  it('notifications: delivered, or why not', async () => {
    const one = {
      id: 1,
      rule: 'welcome',
      event: 'arrived',
      identity: 'a1',
      label: 'Ada Lind',
      recipients: ['Bo Holm <bo@skerry.example>'],
      text: 'Ada Lind is on board',
      webhook: 'desk',
      created_at: '2026-11-27T08:00:00Z',
    }
    answer({ '/api/v1/notifications': [{ ...one, sent_at: '2026-11-27T08:00:05Z' }] })
    expect((await open(Notifications)).wrapper.text()).toContain('1 notification, each sent once.')
    answer({ '/api/v1/notifications': [{ ...one, error: 'the desk does not answer' }] })
    const stuck = (await open(Notifications)).wrapper
    expect(stuck.text()).toContain('1 notification not delivered yet.')
    expect(stuck.text()).toContain('the desk does not answer')
  })

  it('groups: how each came about', async () => {
    const groups = [
      { system: 'classroom', label: 'drills', name: 'drills', origin: 'rule', since: '2026-11-27T08:00:00Z' },
      { system: 'harbour', label: 'choir', name: 'cn=choir', origin: 'manual' },
    ]
    answer({ '/api/v1/identities/{id}/groups': { groups, members: [], count: 0 } })
    const { wrapper } = await open(GroupList, { id: 'a1' })
    expect(wrapper.text()).toContain('rule, since')
    expect(wrapper.text()).toContain('manual')
    expect(wrapper.text()).not.toContain('Members')
  })

  it('a password: set, and forgotten at once', async () => {
    const status = { id: 1, created_at: '2026-11-27T08:00:00Z', must_change: false, missing: ['berthing'] }
    answer({ '/api/v1/identities/{id}/password': [status] })
    const { wrapper } = await open(PasswordSet, { id: 'a1' })
    expect(wrapper.text()).toContain('pending in berthing')
    const field = wrapper.find('input[type="password"]')
    await field.setValue('Anchor-Buoy-1')
    await wrapper.find('form').trigger('submit')
    await flushPromises()
    expect(calls.PUT.mock.calls[0]?.[1]).toMatchObject({
      body: { password: 'Anchor-Buoy-1', must_change: false },
    })
    expect((wrapper.find('input').element as HTMLInputElement).value).toBe('')
  })
})

describe('roles', () => {
  const holder = {
    identity: 'a1',
    label: 'Ada Lind',
    by: 'given by first operator',
    until: '2036-12-24T00:00:00Z',
    origin: 'grant',
  }
  const role = {
    name: 'safety officer',
    object: 'person',
    when: null,
    includes: ['crew'],
    priority: 30,
    values: ['watch = "bridge"'],
    rule: 'roles.toml:22',
    holder_count: 1,
  }

  it('say where they differ, who holds them, and take what was given by hand', async () => {
    const conflict = {
      identity: 'a1',
      label: 'Ada Lind',
      attribute: 'watch',
      role: 'safety officer',
      value: 'bridge',
      over: ['deck watch by deck hand'],
    }
    answer({
      '/api/v1/roles': { roles: [role], conflicts: [conflict], conflict_count: 1 },
      '/api/v1/roles/{name}/holders': { items: [holder], count: 1, next: null },
    })
    const { wrapper } = await open(Roles)
    expect(wrapper.text()).toContain('1 conflict between roles.')
    expect(wrapper.text()).toContain('deck watch by deck hand')
    expect(wrapper.text()).not.toContain('given by first operator')
    await wrapper.get('button').trigger('click')
    await flushPromises()
    expect(wrapper.text()).toContain('given by first operator')
    await wrapper.findAll('button').at(-1)?.trigger('click')
    expect(calls.DELETE.mock.calls[0]?.[1].params.path).toEqual({ name: 'safety officer', id: 'a1' })
  })

  it('tell who would gain and lose one under another condition, or why that is no condition', async () => {
    const change = (label: string, role: string, by = '') => ({ role, identity: label, label, by })
    const impact = { message: 'This changes 2 values in 1 system.', total: 0, systems: [], lines: [] }
    const simulation = {
      message: '1 would gain safety officer, and 1 would lose it.',
      gains: [change('Bo Holm', 'safety officer')],
      loses: [change('Ada Lind', 'safety officer', 'kept until 2036-12-24'), change('Ada Lind', 'crew')],
      conflicts: [],
      impact,
    }
    answer({
      '/api/v1/roles': { roles: [role], conflicts: [], conflict_count: 0 },
      '/api/v1/roles/{name}/simulate': simulation,
    })
    const { wrapper } = await open(Roles)
    await wrapper.get('button[aria-label^="Simulate"]').trigger('click')
    await wrapper.get('#when-safety-officer').setValue('identity.rank == "Mate"')
    await wrapper.get('form').trigger('submit')
    await flushPromises()
    expect(calls.POST.mock.calls[0]?.[1]).toEqual({
      params: { path: { name: 'safety officer' } },
      body: { when: 'identity.rank == "Mate"' },
    })
    for (const said of [
      simulation.message,
      'Gain the role (1)',
      'Bo Holm',
      'Lose the role (1)',
      'kept until',
      'crew (1)',
      impact.message,
    ])
      expect(wrapper.text()).toContain(said)
    const detail = 'this is no condition: it ends too early'
    calls.POST.mockResolvedValueOnce({ error: { detail }, response: { status: 422 } })
    await wrapper.get('form').trigger('submit')
    await flushPromises()
    expect(wrapper.get('[role=alert]').text()).toContain('this is no condition')
    expect(wrapper.text()).not.toContain('Bo Holm')
  })
})

describe('a lifecycle', () => {
  const lifecycle = {
    stage: 'active',
    reason: { code: 'active_since', args: {}, text: 'here since 2026-01-01 00:00' },
    rule: 'lifecycle.toml:2',
    since: '2026-01-01T00:00:00Z',
    moments: [
      {
        at: '2026-01-01T00:00:00Z',
        shown: '2026-01-01 00:00',
        transition: 'starts',
        what: 'starts',
        past: true,
      },
      {
        at: '2036-12-31T00:00:00Z',
        shown: '2036-12-31 00:00',
        transition: 'leaves',
        what: 'leaves',
        past: false,
      },
    ],
    departure: null,
  }

  it('shows today between what is over and what is to come', async () => {
    answer({ '/api/v1/identities/{id}/lifecycle': lifecycle })
    const { wrapper } = await open(LifecyclePanel, { id: 'a1', label: 'Ada Lind' })
    const points = wrapper.findAll('ol li').map((point) => [point.classes()[0], point.find('strong').text()])
    expect(points).toEqual([
      ['past', 'starts'],
      ['now', 'today'],
      ['coming', 'leaves'],
    ])
  })

  it('shows what a departure does before it is asked for', async () => {
    const impact = {
      at: '2026-11-27T08:00:00Z',
      changes: [
        { system: 'berthing', kind: 'disable', step: 1, values: ['active: true → false'], hold: null },
      ],
      notes: [{ system: 'berthing', message: 'left' }],
    }
    answer({
      '/api/v1/identities/{id}/lifecycle': lifecycle,
      '/api/v1/identities/{id}/departure': impact,
    })
    const { wrapper } = await open(LifecyclePanel, { id: 'a1', label: 'Ada Lind' })
    await wrapper.get('button').trigger('click')
    await flushPromises()
    expect(document.body.textContent).toContain('1 change on')
    expect(document.body.textContent).toContain('active: true → false')
    expect(calls.PUT).not.toHaveBeenCalled()
    const button = [...document.querySelectorAll('button')].find((b) =>
      b.textContent?.includes('Start departure now'),
    )
    button?.click()
    await flushPromises()
    expect(calls.PUT).toHaveBeenCalledOnce()
    expect(calls.PUT.mock.calls[0]?.[1].body).toEqual({ comment: '', at: null, last_day: null })
  })
})
