import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { noteWho, onOtherTab, onReturn } from '../session/session'
import { keepFor } from './browser'
import { noteBuild } from './build'
import { hasSession } from './page'
import { setConnected } from '../stream/connection'
import { changes } from '../stream/shared'
import { follow } from '../stream/source'
import { api, unwrap, type Event, type Stack } from './client'

const askMe = async () => {
  const me = await unwrap(api.GET('/api/v1/me'))
  keepFor(me.name)
  noteWho(me.name)
  return me
}

export const useMe = () =>
  useQuery({ queryKey: ['me'], queryFn: askMe, enabled: hasSession, retry: false, staleTime: 60_000 })

/** Whether whoever is here has a right in an account. */
export function useMay(right: string, account: string): boolean {
  const me = useMe()
  return (me.data?.may?.includes(right) ?? false) || (me.data?.may_in?.[account]?.includes(right) ?? false)
}

/** Whether whoever is here has a right somewhere. */
export function useMaySomewhere(right: string): boolean {
  const me = useMe()
  return (
    (me.data?.may?.includes(right) ?? false) ||
    Object.values(me.data?.may_in ?? {}).some((list) => list.includes(right))
  )
}

/** Whether whoever is here has a right over a stack; before its account is known nobody has. */
export function useMayOn(stack: string, right: string): boolean {
  const account = useStacks().data?.find((s) => s.name === stack)?.account ?? ''
  return useMay(right, account)
}

const page = 500

async function allStacks(): Promise<Stack[]> {
  const all: Stack[] = []
  for (;;) {
    const list = await unwrap(
      api.GET('/api/v1/stacks', { params: { query: { after: all.at(-1)?.name, limit: page } } }),
    )
    all.push(...list)
    if (list.length < page) return all
  }
}

/** All stacks; useChanges keeps the list as it is. */
export const useStacks = () => useQuery({ queryKey: ['stacks'], queryFn: allStacks })

export const useStack = (name: string) =>
  useQuery({
    queryKey: ['stack', name],
    queryFn: () => unwrap(api.GET('/api/v1/stacks/{name}', { params: { path: { name } } })),
  })

/** Hears of every change on one stream, so that no page asks again and again. */
export function useChanges() {
  const client = useQueryClient()
  useEffect(() => {
    const forget = (...keys: string[]) => keys.forEach((key) => void client.invalidateQueries({ queryKey: [key] }))
    let cut = false
    const who = () => void client.refetchQueries({ queryKey: ['me'] })
    onOtherTab(who)
    const stream = changes({
      connected: (there) => {
        setConnected(there)
        if (!there) who() // it may have been ended, and not be away
        if (there && cut) {
          void client.invalidateQueries() // what is shown may be of before
          void noteBuild()
        }
        cut = !there
      },
      event: (kind, data) => {
        if (kind === 'reset') return forget('stacks', 'stack', 'runs', 'proposals', 'kept')
        const stack = JSON.parse(data) as Stack
        client.setQueryData<Stack[]>(['stacks'], (before) => {
          if (!before) return before
          const others = before.filter((s) => s.name !== stack.name)
          return stack.state === 'removed' ? others : [...others, stack].sort((a, b) => (a.name < b.name ? -1 : 1))
        })
        void client.invalidateQueries({ queryKey: ['stack', stack.name] })
        forget('runs', 'proposals', 'kept')
      },
    })
    const back = onReturn(() => {
      stream.hurry()
      void client.invalidateQueries()
    })
    return () => {
      back()
      stream.stop()
    }
  }, [client])
}

/** What outlived its stack on purpose. */
export const useQuiet = () =>
  useQuery({
    queryKey: ['quiet'],
    queryFn: () => unwrap(api.GET('/api/v1/quiet')),
    staleTime: 60_000,
    refetchInterval: (q) => (q.state.data?.why && !q.state.data.looked ? 3_000 : false),
  })
export const useKept = () => useQuery({ queryKey: ['kept'], queryFn: () => unwrap(api.GET('/api/v1/kept')) })

export const useProposals = (stack?: string) =>
  useQuery({
    queryKey: ['proposals', stack],
    queryFn: () => unwrap(api.GET('/api/v1/proposals', { params: { query: { stack, limit: 100 } } })),
    refetchInterval: 60_000,
  })

export const useProposal = (id: number) =>
  useQuery({
    queryKey: ['proposal', id],
    queryFn: () => unwrap(api.GET('/api/v1/proposals/{id}', { params: { path: { id } } })),
  })

export const useRuns = (stack?: string) =>
  useQuery({
    queryKey: ['runs', stack],
    queryFn: () => unwrap(api.GET('/api/v1/runs', { params: { query: { stack, limit: 100 } } })),
  })

export const useTemplates = () =>
  useQuery({ queryKey: ['templates'], queryFn: () => unwrap(api.GET('/api/v1/templates')) })

/** How long changes of a run are gathered before it is read again: a run of many steps is long to tell. */
const gather = (steps: number) => 80 + Math.min(1500, steps * 0.6)

/** A run that follows its stream: each event brings the newest state. */
export function useLiveRun(id: number) {
  const client = useQueryClient()
  const run = useQuery({
    queryKey: ['run', id],
    queryFn: () => unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id } } })),
  })
  const [events, setEvents] = useState<Event[]>([])
  const steps = useRef(0)
  steps.current = run.data?.total ?? 0
  const known = run.data !== undefined // a look that fails in passing ends no stream
  const attempt = run.data?.attempts?.length ?? 0 // a run that is tried again goes on behind its end

  useEffect(() => {
    if (!known) return
    setEvents([])
    let heard: Event[] = []
    let timer: ReturnType<typeof setTimeout> | null = null
    const refresh = () => {
      timer ??= setTimeout(() => {
        timer = null
        const fresh = heard
        heard = []
        setEvents((before) => {
          const after = before.at(-1)?.number ?? 0
          const add = fresh.filter((e) => e.number > after)
          return add.length > 0 ? [...before, ...add] : before
        })
        void client.invalidateQueries({ queryKey: ['run', id] })
        void client.invalidateQueries({ queryKey: ['evidence', id] })
      }, gather(steps.current))
    }
    const stream = follow(`/api/v1/runs/${id}/events/stream`, ['message', 'over'], {
      event: (kind, data) => {
        if (kind === 'message') heard.push(JSON.parse(data) as Event)
        else {
          stream.stop()
          void client.invalidateQueries({ queryKey: ['stack'] })
          void client.invalidateQueries({ queryKey: ['stacks'] })
        }
        refresh()
      },
    })
    const back = onReturn(stream.hurry)
    return () => {
      back()
      stream.stop()
      if (timer) clearTimeout(timer)
    }
  }, [id, known, attempt, client])
  return { run, events }
}

export const useEvidence = (run: number, resource: string | null) =>
  useQuery({
    queryKey: ['evidence', run, resource],
    enabled: resource !== null,
    queryFn: () =>
      unwrap(
        api.GET('/api/v1/runs/{id}/evidence', {
          params: { path: { id: run }, query: { resource: resource ?? undefined } },
        }),
      ),
  })
