import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, type Event, type Run } from '../api/client'
import { useEvidence, useLiveRun } from '../api/queries'
import Graph, { type GraphEdge } from '../parts/graph'
import { useNow } from '../parts/now'
import { StatePill } from '../parts/state'
import { Timeline } from '../parts/timeline'
import { Button, Fact, Facts, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { accountSpan, clock, money, span } from '../parts/words'

export default function RunPage() {
  const id = Number(useParams().id)
  const { run, events } = useLiveRun(id)
  if (run.isPending) return <Sheet><Loading /></Sheet>
  if (run.isError) return <Trouble error={run.error} retry={() => void run.refetch()} />
  return <Content run={run.data} events={events} />
}

function Content({ run, events }: { run: Run; events: Event[] }) {
  const over = run.ended_at !== undefined
  const now = useNow(over ? 0 : 200)
  const [chosen, setChosen] = useState<string | null>(null)
  const steps = useMemo(() => run.steps ?? [], [run])
  // Until somebody chooses, the page shows what matters now: what failed, else what decides the end.
  const shown = chosen ?? steps.find((s) => s.state === 'failed')?.resource ?? run.decides ?? steps.findLast((s) => s.made_at)?.resource ?? steps.at(-1)?.resource ?? null
  const nodes = useMemo(() => lastOf(run), [run])
  const edges = useMemo(() => edgesOf(run), [run])
  useEffect(() => { document.title = `${run.state} · run ${run.id} · Under Sail` }, [run.state, run.id])
  const ended = over ? accountSpan((new Date(run.ended_at!).getTime() - new Date(run.started_at ?? run.created_at).getTime()) / 1000, run.rate) : null
  const noun = run.kind === 'retire' || run.kind === 'discard' ? 'resources done with' : 'steps healthy'
  return (
    <>
      <PageTitle trail={<><Link to="/stacks">Stacks</Link> / <Link to={`/stacks/${run.stack}`}>{run.stack}</Link> / <Link to="/runs">runs</Link></>}>
        Run {run.id} <StatePill state={run.state} />
      </PageTitle>
      <div className="space-y-3">
        <Facts action={<Actions run={run} />}>
          <Fact value={`${run.finished} of ${run.total}`} label={noun} />
          {over ? <Fact value={ended} label={`ended ${clock(run.ended_at!)}`} /> : <Fact value={run.expected_end ? clock(run.expected_end) : '–'} label={run.expected_end ? `expected end, in ${span(Math.max(0, (new Date(run.expected_end).getTime() - now) / 1000))}` : 'expected end'} />}
          {!over && <Fact value={run.decides ?? '–'} label="decides the end" tone="var(--path)" />}
          <Fact value={money(run.hour, run.currency)} label="cost when done" />
        </Facts>
        {run.reason && (
          <p className="rounded-sheet border border-line bg-sheet px-3.5 py-2" style={run.state === 'failed' ? { borderColor: 'var(--bad)' } : undefined}>
            {run.reason}{run.next && <span className="text-ink-2">; continue with <code className="font-mono text-small text-ink">{run.next}</code></span>}
          </p>
        )}
        <div className="grid gap-3 lg:grid-cols-[1.2fr_1fr]">
          <Sheet title="What waits for what" note="left must be healthy before right" className="h-[340px]">
            <Graph nodes={nodes} edges={edges} selected={shown} onSelect={setChosen} label="Steps of the run" />
          </Sheet>
          <Sheet title="Time" note="lighter part: settling" className="h-[340px]">
            <Timeline run={run} now={now} selected={shown} onSelect={setChosen} />
          </Sheet>
        </div>
        <div className="grid gap-3 lg:grid-cols-[1.2fr_1fr]">
          <EvidenceSheet run={run} resource={shown} />
          <EventsSheet events={events} />
        </div>
      </div>
    </>
  )
}

/** A rebuild has two steps of one resource: the graph shows the later one. */
function lastOf(run: Run) {
  const byName = new Map<string, { id: string; label: string; state: string; critical: boolean }>()
  for (const s of run.steps ?? []) byName.set(s.resource, { id: s.resource, label: s.resource, state: s.state, critical: s.critical })
  return [...byName.values()]
}

function edgesOf(run: Run): GraphEdge[] {
  const steps = run.steps ?? []
  const shown = new Map(steps.map((s) => [s.resource, s.number])) // of a rebuild its later step
  const byNumber = new Map(steps.map((s) => [s.number, s]))
  const seen = new Map<string, GraphEdge>()
  for (const s of steps) {
    for (const n of s.needs) {
      const need = byNumber.get(n)
      if (need && need.resource !== s.resource && shown.get(s.resource) === s.number && shown.get(need.resource) === n) seen.set(`${need.resource}>${s.resource}`, { from: need.resource, to: s.resource, critical: s.critical && need.critical })
    }
  }
  return [...seen.values()]
}

function Actions({ run }: { run: Run }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [failure, setFailure] = useState<unknown>(null)
  const stop = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/runs/{id}/stop', { params: { path: { id: run.id } } })),
    onSettled: () => void client.invalidateQueries({ queryKey: ['run', run.id] }),
    onError: setFailure,
  })
  const proceed = useMutation({
    mutationFn: async () => {
      const proposal = await unwrap(api.POST('/api/v1/stacks/{name}/continue', { params: { path: { name: run.stack } } }))
      if (proposal.state === 'nothing') return `/stacks/${run.stack}`
      if (proposal.state !== 'accepted') return `/proposals/${proposal.id}` // it goes beyond what was accepted, and asks
      const next = await unwrap(api.POST('/api/v1/proposals/{id}/apply', { params: { path: { id: proposal.id } } }))
      return `/runs/${next.id}`
    },
    onSuccess: (to) => void navigate(to),
    onError: setFailure,
  })
  const again = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/runs/{id}/retry', { params: { path: { id: run.id } } })),
    onSuccess: () => void client.invalidateQueries({ queryKey: ['run', run.id] }),
    onError: setFailure,
  })
  const undo = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/runs/{id}/undo', { params: { path: { id: run.id } } })),
    onSuccess: (proposal) => void navigate(`/proposals/${proposal.id}`),
    onError: setFailure,
  })
  const busy = proceed.isPending || again.isPending || undo.isPending
  const ended = run.ended_at !== undefined
  const mayUndo = ended && run.kind !== 'retire' && run.kind !== 'undo' && run.kind !== 'discard' && run.state !== 'undone'
  return (
    <>
      {failure !== null && <span className="text-bad">{String(failure instanceof Error ? failure.message : failure)}</span>}
      {!run.ended_at && <Button onClick={() => stop.mutate()} disabled={stop.isPending || run.state === 'stopping'}>Stop after calls in flight</Button>}
      {mayUndo && <Button onClick={() => undo.mutate()} disabled={busy}>Propose to undo</Button>}
      {run.state === 'failed' && <Button onClick={() => again.mutate()} disabled={busy}>Try failed steps again</Button>}
      {run.next && run.kind !== 'retire' && run.kind !== 'undo' && run.kind !== 'discard' && <Button kind="main" onClick={() => proceed.mutate()} disabled={busy}>Continue with what is missing</Button>}
    </>
  )
}

function EvidenceSheet({ run, resource }: { run: Run; resource: string | null }) {
  const evidence = useEvidence(run.id, resource)
  const list = (evidence.data ?? []).toReversed()
  return (
    <Sheet title={resource ?? 'Evidence'} note="evidence of its checks, newest first" className="h-[176px]">
      {list.length === 0 && <p className="text-ink-2">{resource ? 'Nothing has been asked of it in this run yet.' : 'Choose a step to see what its checks saw.'}</p>}
      <ol className="space-y-1 font-mono text-small">
        {list.map((e) => (
          <li key={e.at + e.check} className="flex gap-3">
            <span className="flex-none font-semibold">{clock(e.at)}</span>
            <span className="min-w-0 flex-1 truncate" title={`${e.asked}\n${e.answer}`}><span className="text-ink-2">asked</span> {e.asked} <span className="text-ink-2">got</span> {e.answer}</span>
            <span className="flex-none" style={{ color: e.passed ? 'var(--healthy)' : 'var(--settling)' }}>{e.passed ? 'pass' : 'not yet'}</span>
          </li>
        ))}
      </ol>
    </Sheet>
  )
}

function EventsSheet({ events }: { events: Event[] }) {
  return (
    <Sheet title="What happened" note="newest first" className="h-[176px]">
      <ol className="space-y-1 font-mono text-small">
        {events.toReversed().map((e) => (
          <li key={e.number} className="flex gap-3"><span className="flex-none font-semibold">{clock(e.at)}</span><span className="min-w-0 flex-1 truncate" title={e.text}>{e.text}</span></li>
        ))}
      </ol>
    </Sheet>
  )
}
