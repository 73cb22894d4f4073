import createClient from 'openapi-fetch'
import { noteEnded } from '../session/session'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']
export type Stack = Schemas['Stack']
export type Resource = Schemas['Resource']
export type Proposal = Schemas['Proposal']
export type Run = Schemas['Run']
export type Step = Schemas['Step']
export type Event = Schemas['Event']
export type Evidence = Schemas['Evidence']
export type Finding = Schemas['Finding']
export type Problem = Schemas['Problem']

// The header proves that a change comes from this page and no other.
export const api = createClient<paths>({ headers: { 'X-Undersail-Console': '1' } })

// A session that nobody attends to ends, however much the open page reads by itself.
const attended = 60_000
let touched = Date.now()
for (const kind of ['pointerdown', 'keydown', 'wheel'] as const)
  window.addEventListener(
    kind,
    () => {
      touched = Date.now()
    },
    { passive: true, capture: true },
  )
api.use({
  onRequest: ({ request }) => {
    if (Date.now() - touched > attended) request.headers.set('X-Undersail-Unattended', '1')
    return request
  },
})
// Whichever call is told first that it may not, who is here is asked: a password that is wrong ends no session.
let asking: Promise<unknown> | null = null
api.use({
  onResponse: ({ response, request }) => {
    if (response.status !== 401) return
    if (request.url.endsWith('/api/v1/me')) return noteEnded()
    asking ??= api
      .GET('/api/v1/me')
      .catch(() => undefined)
      .finally(() => {
        asking = null
      })
  },
})

/** What the service said instead of doing what was asked. */
export class Refusal extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title)
  }
}

/** Gives the data of an answer, or throws what the service said. */
export async function unwrap<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let answer
  try {
    answer = await call
  } catch {
    throw new Refusal({
      type: 'urn:undersail:unreachable',
      title: 'The service does not answer',
      status: 0,
      remedy: 'Check that it is running; this page tries again by itself.',
    })
  }
  if (answer.error !== undefined || !answer.response.ok) {
    const problem = answer.error as Problem | undefined
    throw new Refusal(
      problem?.title
        ? problem
        : {
            type: 'urn:undersail:unreadable',
            title: `The service answered ${answer.response.status}`,
            status: answer.response.status,
          },
    )
  }
  return answer.data as T
}
