import { createPinia, setActivePinia } from 'pinia'
import { beforeEach, describe, expect, it, vi } from 'vitest'

const calls = vi.hoisted(() => ({ GET: vi.fn(), POST: vi.fn(), DELETE: vi.fn() }))
vi.mock('@/api/client', async (original) => ({ ...(await original<object>()), api: calls }))

import { useLive } from './live'
import { useSession } from './session'

const good = (data: unknown) => Promise.resolve({ data, response: new Response(null, { status: 200 }) })
const refused = () => Promise.resolve({ error: {}, response: new Response(null, { status: 401 }) })

describe('a session', () => {
  beforeEach(() => {
    setActivePinia(createPinia())
    vi.stubGlobal(
      'EventSource',
      class {
        close() {}
      },
    )
    for (const call of Object.values(calls)) call.mockReset()
  })

  it('begins with a token, and never keeps it', async () => {
    calls.POST.mockReturnValue(good({ name: 'first operator', version: '0' }))
    const session = useSession()
    await session.signIn('canary-token')
    expect(session.name).toBe('first operator')
    expect(JSON.stringify(session.$state)).not.toContain('canary-token')
    expect(localStorage.length + sessionStorage.length).toBe(0)
  })

  it('is taken up again while its cookie is good, and asked for once', async () => {
    calls.GET.mockReturnValue(good({ name: 'first operator', version: '0' }))
    const session = useSession()
    expect(await session.resume()).toBe(true)
    expect(await session.resume()).toBe(true)
    expect(calls.GET).toHaveBeenCalledOnce()
  })

  it('is over when its cookie is', async () => {
    calls.GET.mockReturnValue(refused())
    expect(await useSession().resume()).toBe(false)
    expect(useSession().name).toBeNull()
  })

  it('is not over because the service does not answer', async () => {
    calls.GET.mockRejectedValue(new TypeError('no connection'))
    await expect(useSession().resume()).rejects.toThrow()
    calls.GET.mockReturnValue({ error: {}, response: new Response(null, { status: 503 }) })
    await expect(useSession().resume()).rejects.toThrow('HTTP 503')
  })

  it('ends with its events', async () => {
    calls.POST.mockReturnValue(good({ name: 'x', version: '0' }))
    calls.DELETE.mockReturnValue(good(undefined))
    const session = useSession()
    await session.signIn('t')
    const close = vi.spyOn(useLive(), 'close')
    await session.signOut()
    expect(session.name).toBeNull()
    expect(calls.DELETE).toHaveBeenCalledOnce()
    expect(close).toHaveBeenCalled()
  })
})
