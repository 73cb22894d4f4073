import { useQuery } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useSyncExternalStore } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { keeperOf, type Keeper } from './keeper'
import { allKept, typedOf, type Answer, type Change, type Draft, type Event, type Keeping as State } from './keeping'

export type { Answer, Change, Draft }
export type FormField = Schemas['FormField']
export type FormPage = Schemas['FormPage']

/** Finds the draft that somebody left untouched or is changing a stack with, or begins one. */
export async function begin(template: string, stack: string, version: string, me: string): Promise<Draft> {
  const drafts = await unwrap(api.GET('/api/v1/drafts'))
  const mine = drafts.find(
    (d) =>
      d.made_by === me &&
      (stack
        ? d.body.stack === stack && (d.body.template ?? '') === (version && `${template}@${version}`)
        : !d.body.stack && d.body.template === template && d.revision === 1),
  )
  return (
    mine ??
    unwrap(
      api.POST('/api/v1/drafts', {
        body: stack ? (version ? { stack, template: `${template}@${version}` } : { stack }) : { stack: '', template },
      }),
    )
  )
}

/** A draft as its page uses it: how it is kept, and how it is changed. */
export interface Keeping extends State {
  /** Values that were typed and are not in the draft. */
  typed: Change
  change: (patch: Change) => void
  tell: (e: Event) => void
  /** Everything that was typed is in the draft. */
  kept: boolean
  refresh: () => Promise<void>
}

/** Reads a draft, and keeps it as it is typed. */
export function useKeeping(id: string): {
  loading: boolean
  error: unknown
  retry: () => void
  keeping: Keeping | null
} {
  const query = useQuery({
    queryKey: ['draft', id],
    staleTime: Infinity,
    gcTime: 0,
    refetchOnMount: 'always',
    refetchOnWindowFocus: false,
    queryFn: () => unwrap(api.GET('/api/v1/drafts/{id}', { params: { path: { id } } })),
  })
  const read = query.data
  // The first reading makes the keeper; later ones are told to it.
  const keeper = useMemo(() => (read ? keeperOf(read) : null), [read?.id]) // eslint-disable-line
  useEffect(() => {
    if (read) keeper?.tell({ is: 'read', draft: read })
  }, [read, keeper])
  return { loading: query.isPending, error: query.error, retry: () => void query.refetch(), keeping: useKept(keeper) }
}

const nothing = () => () => {}

function useKept(keeper: Keeper | null): Keeping | null {
  const s = useSyncExternalStore(keeper?.listen ?? nothing, () => keeper?.now() ?? null)
  const change = useCallback((patch: Change) => keeper?.tell({ is: 'typed', change: patch }), [keeper])
  const tell = useCallback((e: Event) => keeper?.tell(e), [keeper])
  const id = s?.draft.id
  const refresh = useCallback(async () => {
    if (id) tell({ is: 'read', draft: await unwrap(api.GET('/api/v1/drafts/{id}', { params: { path: { id } } })) })
  }, [id, tell])
  return useMemo(
    () => s && { ...s, typed: typedOf(s), change, tell, kept: allKept(s), refresh },
    [s, change, tell, refresh],
  )
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
export const isGiven = (field: FormField, k: Keeping) =>
  field.name in { ...(k.draft.body.inputs as object | undefined), ...k.typed.inputs } &&
  k.typed.inputs?.[field.name] !== null
