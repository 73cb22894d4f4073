import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { api, unwrap, type Event } from './client'

export const useMe = () => useQuery({ queryKey: ['me'], queryFn: () => unwrap(api.GET('/api/v1/me')), retry: false, staleTime: 60_000 })

export const useStacks = () => useQuery({ queryKey: ['stacks'], queryFn: () => unwrap(api.GET('/api/v1/stacks')), refetchInterval: 2_000 })

export const useStack = (name: string) =>
  useQuery({ queryKey: ['stack', name], queryFn: () => unwrap(api.GET('/api/v1/stacks/{name}', { params: { path: { name } } })), refetchInterval: 2_000 })

export const useProposals = (stack?: string) =>
  useQuery({ queryKey: ['proposals', stack], queryFn: () => unwrap(api.GET('/api/v1/proposals', { params: { query: { stack, limit: 100 } } })), refetchInterval: 3_000 })

export const useProposal = (id: number) =>
  useQuery({ queryKey: ['proposal', id], queryFn: () => unwrap(api.GET('/api/v1/proposals/{id}', { params: { path: { id } } })) })

export const useRuns = (stack?: string) =>
  useQuery({ queryKey: ['runs', stack], queryFn: () => unwrap(api.GET('/api/v1/runs', { params: { query: { stack, limit: 100 } } })), refetchInterval: 2_000 })

export const useTemplates = () => useQuery({ queryKey: ['templates'], queryFn: () => unwrap(api.GET('/api/v1/templates')) })

/** A run that follows its stream: each event brings the newest state. */
export function useLiveRun(id: number) {
  const client = useQueryClient()
  const run = useQuery({ queryKey: ['run', id], queryFn: () => unwrap(api.GET('/api/v1/runs/{id}', { params: { path: { id } } })) })
  const [events, setEvents] = useState<Event[]>([])
  const pending = useRef<ReturnType<typeof setTimeout> | null>(null)
  const known = run.isSuccess

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
  }, [id, known, client])
  return { run, events }
}

export const useEvidence = (run: number, resource: string | null) =>
  useQuery({
    queryKey: ['evidence', run, resource],
    enabled: resource !== null,
    queryFn: () => unwrap(api.GET('/api/v1/runs/{id}/evidence', { params: { path: { id: run }, query: { resource: resource ?? undefined } } })),
  })
