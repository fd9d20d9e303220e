import { afterEach, describe, expect, it, vi } from 'vitest'
import { runTest } from './steps'

function answering(pieces: string[], status = 200) {
  const encoder = new TextEncoder()
  const body = new ReadableStream({
    start(controller) {
      pieces.forEach((piece) => controller.enqueue(encoder.encode(piece)))
      controller.close()
    },
  })
  vi.stubGlobal(
    'fetch',
    vi.fn(async () => new Response(body, { status })),
  )
}

afterEach(() => vi.unstubAllGlobals())

const step = (name: string) => JSON.stringify({ step: { name, state: 'passed', message: 'ok' } })

describe('a test that is watched', () => {
  it('tells each step, however the lines are cut', async () => {
    const text = `${step('Name resolves')}\n${step('Port answers')}\n{"report":{"healthy":true,"steps":[]}}\n`
    answering([text.slice(0, 13), text.slice(13, 70), text.slice(70)])
    const seen: string[] = []
    const report = await runTest('/x', {}, (one) => seen.push(one.name))
    expect(seen).toEqual(['Name resolves', 'Port answers'])
    expect(report.healthy).toBe(true)
  })

  it('throws what the service refuses, and what is broken off', async () => {
    answering(['{"problem":{"detail":"not a usable URL","status":422}}\n'])
    await expect(runTest('/x', {}, () => {})).rejects.toThrow('not a usable URL')
    answering(['{"detail":"no such system"}'], 404)
    await expect(runTest('/x', {}, () => {})).rejects.toThrow('no such system')
    answering([`${step('Name resolves')}\n`])
    await expect(runTest('/x', {}, () => {})).rejects.toThrow('did not finish')
  })
})
