import { Refusal, type Schemas } from '@/api/client'

export type Step = Schemas['CheckStep']
export type Report = Schemas['CheckReport']

/** Splits a byte stream into lines, whatever the size of its chunks. */
export function liner(each: (line: string) => void) {
  let left = ''
  const decoder = new TextDecoder()
  return {
    push(chunk: Uint8Array) {
      left += decoder.decode(chunk, { stream: true })
      const lines = left.split('\n')
      left = lines.pop() ?? ''
      lines.filter(Boolean).forEach(each)
    },
  }
}

/** Runs a test, and calls `onStep` after each step. */
export async function runTest(path: string, body: unknown, onStep: (step: Step) => void): Promise<Report> {
  const response = await fetch(path, {
    method: 'POST',
    credentials: 'same-origin',
    headers: { 'content-type': 'application/json', accept: 'application/x-ndjson' },
    body: JSON.stringify(body ?? {}),
  })
  if (!response.ok || !response.body) {
    const problem = (await response.json().catch(() => ({}))) as Partial<Schemas['Problem']>
    throw new Refusal(problem, response.status)
  }
  let report: Report | null = null
  let problem: Partial<Schemas['Problem']> | null = null
  const lines = liner((line) => {
    const value = JSON.parse(line) as { step?: Step; report?: Report; problem?: Partial<Schemas['Problem']> }
    if (value.step) onStep(value.step)
    if (value.report) report = value.report
    if (value.problem) problem = value.problem
  })
  const reader = response.body.getReader()
  for (;;) {
    const { done, value } = await reader.read()
    if (done) break
    lines.push(value)
  }
  if (problem) throw new Refusal(problem, 422)
  if (!report) throw new Refusal({ detail: 'the test did not finish' }, 0)
  return report
}
