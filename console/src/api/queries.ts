import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { api, unwrap, type Event, type Stack } from './client'

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => unwrap(api.GET('/api/v1/me')), retry: false, staleTime: 60_000 })

const page = 500

async function allStacks(): Promise<Stack[]> {
  const all: Stack[] = []
  for (;;) {
    const list = await unwrap(api.GET('/api/v1/stacks', { params: { query: { after: all.at(-1)?.name, limit: page } } }))
    all.push(...list)
    if (list.length < page) return all
  }
}

/** All stacks; useChanges keeps the list as it is. */
export const useStacks = () => useQuery({ queryKey: ['stacks'], queryFn: allStacks })

export const useStack = (name: string) =>
  useQuery({ queryKey: ['stack', name], queryFn: () => unwrap(api.GET('/api/v1/stacks/{name}', { params: { path: { name } } })) })

/** Hears of every change on one stream, so that no page asks again and again. */
export function useChanges() {
  const client = useQueryClient()
  useEffect(() => {
    const source = new EventSource('/api/v1/stream')
    const forget = (...keys: string[]) => keys.forEach((key) => void client.invalidateQueries({ queryKey: [key] }))
    source.addEventListener('reset', () => forget('stacks', 'stack', 'runs', 'proposals', 'kept'))
    source.addEventListener('stack', (message: MessageEvent<string>) => {
      const stack = JSON.parse(message.data) as Stack
      client.setQueryData<Stack[]>(['stacks'], (before) => {
        if (!before) return before
        const others = before.filter((s) => s.name !== stack.name)
        return stack.state === 'removed' ? others : [...others, stack].sort((a, b) => (a.name < b.name ? -1 : 1))
      })
      void client.invalidateQueries({ queryKey: ['stack', stack.name] })
      forget('runs', 'proposals', 'kept')
    })
    return () => source.close()
  }, [client])
}

/** What outlived its stack on purpose. */
export const useKept = () => useQuery({ queryKey: ['kept'], queryFn: () => unwrap(api.GET('/api/v1/kept')) })

export const useProposals = (stack?: string) =>
  useQuery({ queryKey: ['proposals', stack], queryFn: () => unwrap(api.GET('/api/v1/proposals', { params: { query: { stack, limit: 100 } } })), refetchInterval: 15_000 })

export const useProposal = (id: number) =>
  useQuery({ queryKey: ['proposal', id], queryFn: () => unwrap(api.GET('/api/v1/proposals/{id}', { params: { path: { id } } })) })

export const useRuns = (stack?: string) =>
  useQuery({ queryKey: ['runs', stack], queryFn: () => unwrap(api.GET('/api/v1/runs', { params: { query: { stack, limit: 100 } } })) })

export const useTemplates = () => useQuery({ queryKey: ['templates'], queryFn: () => unwrap(api.GET('/api/v1/templates')) })

/** A run that follows its stream: each event brings the newest state. */
export function useLiveRun(id: number) {
  const client = useQueryClient()
  const run = useQuery({ queryKey: ['run', id], queryFn: () => unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id } } })) })
  const [events, setEvents] = useState<Event[]>([])
  const pending = useRef<ReturnType<typeof setTimeout> | null>(null)
  const known = run.isSuccess
  const over = run.data?.ended_at !== undefined

  useEffect(() => {
    if (!known) return
    setEvents([])
    const source = new EventSource(`/api/v1/runs/${id}/events/stream`)
    const refresh = () => {
      pending.current ??= setTimeout(() => {
        pending.current = null
        void client.invalidateQueries({ queryKey: ['run', id] })
        void client.invalidateQueries({ queryKey: ['evidence', id] })
      }, 80)
    }
    source.onmessage = (message) => {
      const event = JSON.parse(message.data) as Event
      setEvents((before) => (before.some((e) => e.number === event.number) ? before : [...before, event]))
      refresh()
    }
    source.addEventListener('over', () => {
      source.close()
      refresh()
      void client.invalidateQueries({ queryKey: ['stack'] })
      void client.invalidateQueries({ queryKey: ['stacks'] })
    })
    return () => {
      source.close()
      if (pending.current) clearTimeout(pending.current)
      pending.current = null
    }
  }, [id, known, over, client])
  return { run, events }
}

export const useEvidence = (run: number, resource: string | null) =>
  useQuery({
    queryKey: ['evidence', run, resource],
    enabled: resource !== null,
    queryFn: () => unwrap(api.GET('/api/v1/runs/{id}/evidence', { params: { path: { id: run }, query: { resource: resource ?? undefined } } })),
  })
