import { api, unwrap, Refusal } from '../api/client'
import { forget, keep, recall } from '../api/browser'
import { onReturn } from '../session/session'
import {
  allKept,
  begun,
  next,
  pause,
  recalled,
  recallOf,
  toSend,
  type Change,
  type Draft,
  type Event,
  type Keeping,
  type Recalled,
} from './keeping'

const keepers = new Map<string, Keeper>()

/** The one keeper of a draft in this tab. It goes on when its page is left, until everything is kept. */
export function keeperOf(draft: Draft): Keeper {
  let k = keepers.get(draft.id)
  if (!k) keepers.set(draft.id, (k = new Keeper(draft)))
  return k
}

/** Sends what is typed into a draft, one change at a time, and keeps in the browser what was not taken yet. */
export class Keeper {
  private state: Keeping
  private readonly key: string
  private readonly listeners = new Set<() => void>()
  private timer: ReturnType<typeof setTimeout> | undefined

  constructor(draft: Draft) {
    this.key = `draft ${draft.id}`
    const before = recall(this.key)
    this.state = before ? recalled(draft, JSON.parse(before) as Recalled) : begun(draft)
    if (before && allKept(this.state)) forget(this.key) // it arrived, and only its answer was lost
    onReturn(() => this.tell({ is: 'back' }))
    window.addEventListener('online', () => this.tell({ is: 'back' }))
    this.step()
  }

  now = () => this.state
  listen = (l: () => void) => {
    this.listeners.add(l)
    return () => {
      this.listeners.delete(l)
    }
  }

  tell = (e: Event) => {
    const before = this.state
    const after = next(before, e)
    if (after === before) return
    this.state = after
    if (!allKept(after)) keep(this.key, JSON.stringify(recallOf(after)))
    else if (!allKept(before)) forget(this.key) // what another tab keeps of it is that tab's
    this.listeners.forEach((l) => l())
    this.step()
  }

  private step() {
    clearTimeout(this.timer)
    if (this.state.hold === 'pause') this.timer = setTimeout(() => this.tell({ is: 'again' }), pause(this.state) * 1000)
    const change = toSend(this.state)
    if (!change) return
    this.tell({ is: 'sent' })
    void this.send(change)
  }

  private async send(change: Change) {
    const { draft, answer } = this.state
    const path = { id: draft.id }
    let after: string | null = null
    try {
      const got = await unwrap(
        api
          .PATCH('/api/v1/drafts/{id}', {
            params: { path, header: { 'If-Match': `"${draft.revision}"` }, query: { graph: answer?.graph_digest } },
            body: change as Record<string, never>,
            bodySerializer: JSON.stringify,
            headers: { 'Content-Type': 'application/merge-patch+json' },
          })
          .then((a) => {
            after = a.response.headers.get('Retry-After')
            return a
          }),
      )
      this.tell({ is: 'kept', draft: got })
    } catch (error) {
      const problem = error instanceof Refusal ? error.problem : { type: '', title: String(error), status: 0 }
      if (problem.type !== 'urn:undersail:stale') return this.tell({ is: 'failed', problem, after: Number(after) || 0 })
      await unwrap(api.GET('/api/v1/drafts/{id}', { params: { path } })).then(
        (theirs) => this.tell({ is: 'conflict', theirs }),
        (e: unknown) => this.tell({ is: 'failed', problem: e instanceof Refusal ? e.problem : problem }),
      )
    }
  }
}
