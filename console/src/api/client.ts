import createClient from 'openapi-fetch'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type System = Schemas['System']
export type ChangeSet = Schemas['ChangeSet']
export type Attention = Schemas['Attention']
export type HoldCause = Schemas['HoldCause']
export type HoldOwner = Schemas['HoldOwner']
export type Verdict = Schemas['Verdict']
export type ScopeStatus = Schemas['ScopeStatus']
export type MatchStatus = Schemas['MatchStatus']
export type DecisionKind = Schemas['DecisionKind']
export type DecisionAnswer = Schemas['DecisionAnswer']
export type Change = Schemas['Change']
export type OutcomeLine = Schemas['OutcomeLine']
export type Identity = Schemas['Identity']
export type IdentityDetail = Schemas['IdentityDetail']
export type Overview = Schemas['Overview']
export type Rules = Schemas['Rules']
export type RuleLine = Schemas['RuleLine']
export type Problem = Schemas['Problem']
export type Permission = Schemas['Permission']

export const api = createClient<paths>({ baseUrl: '/', credentials: 'same-origin' })

/** An error answer of the service. */
export class Refusal extends Error {
  constructor(
    readonly problem: Partial<Problem>,
    readonly status: number,
  ) {
    super(problem.detail ?? problem.title ?? `the service answered HTTP ${status}`)
  }

  get remedy(): string | undefined {
    return this.problem.remedy ?? undefined
  }
}

let signedOut: () => void = () => {}

/** Sets what to do when the session has ended. */
export function onSignedOut(act: () => void) {
  signedOut = act
}

type Answer<T> = { data?: T; error?: unknown; response: Response }

/** Returns the data of an answer; throws an error answer. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await call
  } catch {
    throw new Refusal(
      { detail: 'the service does not answer', remedy: 'check that it is running, and try again' },
      0,
    )
  }
  if (answer.response.ok) return answer.data as T
  if (answer.response.status === 401) signedOut()
  throw new Refusal((answer.error ?? {}) as Partial<Problem>, answer.response.status)
}
