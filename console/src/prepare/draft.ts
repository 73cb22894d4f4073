import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useRef, useState } from 'react'
import { api, unwrap, Refusal, type Schemas } from '../api/client'

export type Draft = Schemas['Draft']
export type Answer = Schemas['Answer']
export type FormField = Schemas['FormField']
export type FormPage = Schemas['FormPage']

/** What a draft may say anew: a merge patch of its body, in which null takes a value back. */
export interface Change { stack?: string; account?: string; region?: string; preset?: string | null; template?: string; inputs?: Record<string, unknown> }

const merged = (a: Change, b: Change): Change => ({ ...a, ...b, ...(a.inputs || b.inputs ? { inputs: { ...a.inputs, ...b.inputs } } : {}) })

/** Finds the draft that somebody left untouched or is changing a stack with, or begins one. */
export async function begin(template: string, stack: string, version: string, me: string): Promise<Draft> {
  const drafts = await unwrap(api.GET('/api/v1/drafts'))
  const mine = drafts.find((d) => d.made_by === me && (stack ? d.body.stack === stack && (d.body.template ?? '') === (version && `${template}@${version}`) : !d.body.stack && d.body.template === template && d.revision === 1))
  return mine ?? unwrap(api.POST('/api/v1/drafts', { body: stack ? (version ? { stack, template: `${template}@${version}` } : { stack }) : { stack: '', template } }))
}

/** Whether a draft says already what a change would. */
function holds(draft: Draft, patch: Change): boolean {
  const same = (a: unknown, b: unknown) => JSON.stringify(a ?? null) === JSON.stringify(b ?? null)
  const body = draft.body as unknown as Record<string, unknown>
  const inputs = (draft.body.inputs ?? {}) as Record<string, unknown>
  return Object.entries(patch).every(([key, value]) => (key === 'inputs' ? Object.entries(value as object).every(([name, v]) => same(inputs[name], v)) : same(body[key] === '' ? null : body[key], value === '' ? null : value)))
}

export interface Keeping {
  draft: Draft
  /** The newest answer; while a name or a place cannot be checked it is the one before. */
  answer: Answer | undefined
  /** Values that were typed and not answered yet. */
  typed: Change
  change: (patch: Change) => void
  /** Somebody else's draft that came between. */
  theirs: Draft | null
  settle: (mine: boolean) => void
  /** What keeps the last change from being kept. */
  trouble: unknown
  /** Nothing is on its way. */
  kept: boolean
  refresh: () => Promise<void>
}

/**
 * Keeps a draft as it is typed: one change at a time goes to the service, what is typed
 * meanwhile goes with the next, and a draft that somebody else changed is not written
 * over before one is told.
 */
export function useKeeping(id: string): { loading: boolean; error: unknown; retry: () => void; keeping: Keeping | null } {
  const client = useQueryClient()
  const now = useRef<Draft | undefined>(undefined)
  const query = useQuery({
    queryKey: ['draft', id], staleTime: Infinity, refetchOnMount: 'always', refetchOnWindowFocus: false,
    queryFn: async () => {
      const got = await unwrap(api.GET('/api/v1/drafts/{id}', { params: { path: { id } } }))
      return now.current && now.current.revision > got.revision ? now.current : got // asked before the last change was kept
    },
  })
  const draft = query.data
  const [typed, setTyped] = useState<Change>({})
  const [theirs, setTheirs] = useState<Draft | null>(null)
  const [trouble, setTrouble] = useState<unknown>(null)
  const last = useRef<Answer | undefined>(undefined)
  // A graph that did not change is not sent again; an answer that cannot be given leaves the one before.
  const answer = useMemo(() => (draft?.answer ? { ...draft.answer, graph: draft.answer.graph ?? last.current?.graph } : last.current), [draft])
  useEffect(() => { last.current = answer }, [answer])
  const waiting = useRef<Change | null>(null)
  const sending = useRef(false)
  const alive = useRef(true)
  useEffect(() => { alive.current = true; return () => { alive.current = false } }, [])
  useEffect(() => { if (draft && (!now.current || draft.id !== now.current.id || draft.revision >= now.current.revision)) now.current = draft }, [draft])
  // What was typed is shown until the draft that holds it is: not a keystroke is taken back in between.
  const underway = useRef<Change | null>(null)
  useEffect(() => setTyped(merged(underway.current ?? {}, waiting.current ?? {})), [draft])

  const send = useCallback(async () => {
    if (sending.current || !waiting.current || !now.current) return
    sending.current = true
    const patch = waiting.current
    waiting.current = null
    underway.current = patch
    let free = true // nothing stands between this change and the next
    try {
      const got = await unwrap(api.PATCH('/api/v1/drafts/{id}', {
        params: { path: { id }, header: { 'If-Match': `"${now.current.revision}"` }, query: { graph: now.current.answer?.graph_digest } },
        body: patch as Record<string, never>, bodySerializer: JSON.stringify, headers: { 'Content-Type': 'application/merge-patch+json' },
      }))
      now.current = got
      underway.current = null
      client.setQueryData(['draft', id], got)
      setTrouble(null)
    } catch (error) {
      underway.current = null
      const later = waiting.current as Change | null
      waiting.current = merged(patch, later ?? {})
      const stale = error instanceof Refusal && error.problem.type === 'urn:undersail:stale'
      if (stale) {
        const got = await unwrap(api.GET('/api/v1/drafts/{id}', { params: { path: { id } } })).catch(() => null)
        if (got && holds(got, patch)) { // it was kept, and only its answer was lost
          now.current = got
          waiting.current = later
          client.setQueryData(['draft', id], got)
        } else { free = false; setTheirs(got) }
      } else {
        free = false
        setTrouble(error)
        if (error instanceof Refusal && error.problem.status !== 0 && error.problem.status < 500) {
          waiting.current = null // the service will not take it; what is typed stays to be seen
        } else if (alive.current) setTimeout(() => void send(), 2000)
      }
    }
    sending.current = false
    if (free && waiting.current) void send()
  }, [client, id])

  const change = useCallback((patch: Change) => {
    waiting.current = merged(waiting.current ?? {}, patch)
    setTyped((before) => merged(before, patch))
    void send()
  }, [send])

  const settle = useCallback((mine: boolean) => {
    if (!theirs) return
    now.current = theirs
    client.setQueryData(['draft', id], theirs)
    setTheirs(null)
    if (mine) void send()
    else { waiting.current = null; setTyped({}) }
  }, [client, id, send, theirs])

  const refresh = useCallback(async () => {
    const got = await unwrap(api.GET('/api/v1/drafts/{id}', { params: { path: { id } } }))
    now.current = got
    client.setQueryData(['draft', id], got)
  }, [client, id])

  const keeping = draft ? { draft, answer, typed, change, theirs, settle, trouble, kept: Object.keys(typed).length === 0, refresh } : null
  return { loading: query.isPending, error: query.error, retry: () => void query.refetch(), keeping }
}

/** The value of a field as it is shown: what was typed last, else what the service says. */
export function shownValue(field: FormField, k: Keeping): unknown {
  const typed = k.typed.inputs
  if (typed && field.name in typed && typed[field.name] !== null) return typed[field.name]
  const given = k.draft.body.inputs as Record<string, unknown> | undefined
  // What was given stays as it was typed, also where it is no value of its kind and the answer goes on without it.
  return given && field.name in given ? given[field.name] : field.value
}

/** Whether a value is the draft's own, and not recorded, a default or computed. */
export const isGiven = (field: FormField, k: Keeping) => field.name in { ...(k.draft.body.inputs as object | undefined), ...k.typed.inputs } && k.typed.inputs?.[field.name] !== null
