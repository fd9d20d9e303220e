import { describe, expect, it, vi } from 'vitest'
import { Refusal, onSignedOut, take } from './client'

const answer = (status: number, body: unknown) =>
  Promise.resolve({
    response: new Response(null, { status }),
    ...(status < 400 ? { data: body } : { error: body }),
  }) as Promise<{ data?: unknown; error?: unknown; response: Response }>

describe('an answer of the service', () => {
  it('is its data when it is good', async () => {
    expect(await take(answer(200, { name: 'harbour' }))).toEqual({ name: 'harbour' })
  })

  it('is thrown in the service’s own words when it is a problem', async () => {
    const problem = {
      title: 'Conflict',
      status: 409,
      detail: 'change set 3 is on its way',
      remedy: 'wait for its end',
    }
    const thrown = await take(answer(409, problem)).catch((error: unknown) => error)
    expect(thrown).toBeInstanceOf(Refusal)
    expect((thrown as Refusal).message).toBe('change set 3 is on its way')
    expect((thrown as Refusal).remedy).toBe('wait for its end')
  })

  it('has words of its own when nothing answers', async () => {
    const thrown = (await take(Promise.reject(new TypeError('failed to fetch'))).catch(
      (error: unknown) => error,
    )) as Refusal
    expect(thrown.message).toBe('the service does not answer')
    expect(thrown.status).toBe(0)
  })

  it('leads to the sign-in page when the session is over', async () => {
    const out = vi.fn()
    onSignedOut(out)
    await take(answer(401, { detail: 'you are not signed in' })).catch(() => {})
    expect(out).toHaveBeenCalledOnce()
    await take(answer(403, {})).catch(() => {})
    expect(out).toHaveBeenCalledOnce()
  })
})
