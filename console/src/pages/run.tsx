import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, type Event, type Run, type Step } from '../api/client'
import { useEvidence, useLiveRun, useMayOn } from '../api/queries'
import Graph, { type GraphEdge } from '../parts/graph'
import { useNow } from '../parts/now'
import { Field, PanelForm } from '../parts/form'
import { EvidenceList } from '../parts/evidence'
import { State, StatePill } from '../parts/state'
import { Timeline } from '../parts/timeline'
import { Button, Empty, Fact, Facts, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { accountSpan, clock, moment, money, spent, span } from '../parts/words'
import { actionsOf, useActions, Ways } from '../run/ways'

export default function RunPage() {
  const asked = useParams().id ?? ''
  const id = Number(asked)
  if (!Number.isInteger(id) || id < 1)
    return (
      <Empty heading title={`${asked} is not the number of a run`}>
        Look for it among the{' '}
        <Link className="text-accent underline" to="/runs">
          runs
        </Link>
        .
      </Empty>
    )
  return <Numbered id={id} />
}

function Numbered({ id }: { id: number }) {
  const { run, events } = useLiveRun(id)
  if (run.isPending)
    return (
      <Sheet>
        <Loading />
      </Sheet>
    )
  if (run.isLoadingError) return <Trouble page error={run.error} retry={() => void run.refetch()} />
  return <Content run={run.data} events={events} />
}

function Content({ run, events }: { run: Run; events: Event[] }) {
  const over = run.ended_at !== undefined
  const now = useNow(over ? 0 : 200)
  const [chosen, setChosen] = useState<string | null>(null)
  const steps = useMemo(() => run.steps ?? [], [run])
  // Until somebody chooses, the page shows what matters now: what failed, else what decides the end.
  const shown =
    chosen ??
    steps.find((s) => s.state === 'failed')?.resource ??
    run.decides ??
    steps.findLast((s) => s.made_at)?.resource ??
    steps.at(-1)?.resource ??
    null
  const nodes = useMemo(() => lastOf(run), [run])
  const edges = useMemo(() => edgesOf(run), [run])
  useEffect(() => {
    document.title = `${run.state} · run ${run.id} · Under Sail`
  }, [run.state, run.id])
  const actions = useActions(run)
  const may = useMayOn(run.stack, 'operate')
  return (
    <>
      <PageTitle
        trail={
          <>
            <Link to="/stacks">Stacks</Link> / <Link to={`/stacks/${run.stack}`}>{run.stack}</Link> /{' '}
            <Link to="/runs">runs</Link>
          </>
        }
      >
        Run {run.id} <StatePill state={run.state} />
      </PageTitle>
      <div className="space-y-3">
        {actions.failure !== null && <Trouble error={actions.failure} />}
        <Progress run={run} />
        <Facts action={may && actionsOf(run, (what) => actions.act.mutate(what), actions.act.isPending)}>
          <Fact value={`${run.finished} of ${run.total}`} label={doneWords(run)} />
          {over ? (
            <Fact
              value={accountSpan(run.under_way_seconds, run.rate)}
              label={
                `of work; ended ${clock(run.ended_at!)}` +
                (run.waited_seconds >= 1 ? `; waited ${accountSpan(run.waited_seconds, run.rate)}` : '')
              }
            />
          ) : run.state === 'parked' ? (
            <Fact value="–" label="expected end, once it goes on" />
          ) : (
            <Fact
              value={run.expected_end ? clock(run.expected_end) : '–'}
              label={
                run.expected_end
                  ? `expected end, in ${span(Math.max(0, (new Date(run.expected_end).getTime() - now) / 1000))}`
                  : 'expected end'
              }
            />
          )}
          {(!over || run.decides) && (
            <Fact
              value={run.decides ?? '–'}
              label={over ? 'decided when it ended' : 'decides the end'}
              tone="var(--path)"
            />
          )}
          <Fact value={money(run.hour, run.currency)} label="cost when done" />
        </Facts>
        {run.reason && (
          <p
            className="rounded-sheet border bg-sheet px-3.5 py-2 [overflow-wrap:anywhere]"
            style={{
              borderColor:
                run.state === 'failed' ? 'var(--bad)' : run.state === 'parked' ? 'var(--settling)' : 'var(--line)',
            }}
          >
            {run.state === 'parked' && <span className="font-semibold">It waits: </span>}
            {run.reason}
            {run.next && (
              <span className="text-ink-2">
                ; on the command line continue with <code className="font-mono text-small text-ink">{run.next}</code>
              </span>
            )}
          </p>
        )}
        {may && run.awaits && run.awaits.length > 0 && <Giving run={run} awaits={run.awaits} />}
        {(run.asks || run.parked_for === 'agreement') && <Agreeing run={run} />}
        {may && <Ways run={run} act={(what) => actions.act.mutate(what)} busy={actions.act.isPending} />}
        <Attempts run={run} />
        <div className="grid gap-3 lg:grid-cols-[1.2fr_1fr]">
          <Sheet
            title="What waits for what"
            note="left must be healthy before right"
            className="h-[300px]"
            label="Steps of the run"
          >
            <Graph nodes={nodes} edges={edges} selected={shown} onSelect={setChosen} label="Steps of the run" />
          </Sheet>
          <section className="flex h-[300px] min-w-0 flex-col rounded-sheet border border-line bg-sheet">
            <header className="flex flex-none items-baseline justify-between border-b border-line px-3.5 py-2">
              <h2 className="text-small font-semibold text-ink-2">Time</h2>
              <span className="text-small text-ink-2">lighter part: settling; outline: still to come</span>
            </header>
            <div className="min-h-0 flex-1 p-2.5">
              <Timeline run={run} now={now} selected={shown} onSelect={setChosen} />
            </div>
          </section>
        </div>
        <div className="grid gap-3 lg:grid-cols-[1.2fr_1fr]">
          <EvidenceSheet run={run} resource={shown} />
          <EventsSheet events={events} />
        </div>
      </div>
    </>
  )
}

/** Told to whoever does not see it, whenever a step more is done. */
function Progress({ run }: { run: Run }) {
  const decides = run.ended_at || !run.decides ? '' : `, ${run.decides} decides the end`
  const words = `Run ${run.id} is ${run.state}: ${run.finished} of ${run.total} steps done${decides}`
  const [said, setSaid] = useState(words)
  useEffect(() => {
    const t = setTimeout(() => setSaid(words), 1500)
    return () => clearTimeout(t)
  }, [words])
  return (
    <p className="sr-only" role="status">
      {said}
    </p>
  )
}

/** What its finished steps are: what is healthy and what is removed are two things. */
function doneWords(run: Run): string {
  const removed = (run.steps ?? []).filter((s) => s.state === 'removed').length
  const healthy = (run.steps ?? []).filter((s) => s.state === 'healthy').length
  return (
    [healthy > 0 && `${healthy} healthy`, removed > 0 && `${removed} removed`].filter(Boolean).join(', ') ||
    'steps done'
  )
}

/** Every attempt of a run that was tried again: when, for how long, and how it ended. */
function Attempts({ run }: { run: Run }) {
  const list = run.attempts ?? []
  if (list.length < 2) return null
  return (
    <Sheet title="Attempts" note={`${list.length}; what lay idle between them is no work`} pad={false}>
      <table className="w-full">
        <thead>
          <tr>
            <th>Attempt</th>
            <th>State</th>
            <th className="max-md:hidden">By</th>
            <th className="max-md:hidden">Began</th>
            <th>Worked</th>
            <th className="max-md:hidden">What it left</th>
          </tr>
        </thead>
        <tbody>
          {list.map((a) => (
            <tr key={a.number} className="align-top">
              <td className="py-1.5 font-semibold">{a.number}</td>
              <td className="py-1.5">
                <State state={a.state || run.state} />
              </td>
              <td className="py-1.5 max-md:hidden text-ink-2">{a.by}</td>
              <td className="py-1.5 max-md:hidden text-ink-2">{a.began_at ? moment(a.began_at) : '–'}</td>
              <td className="py-1.5">{spent(a, run.rate)}</td>
              <td className="py-1.5 max-md:hidden text-small whitespace-normal [overflow-wrap:anywhere]">
                {a.reason ?? ''}
                {a.steps.map((s) => (
                  <span key={s.number} className="block text-ink-2">
                    {s.resource} {s.state} after {accountSpan(took(s), run.rate)}
                    {s.reason && s.reason !== a.reason && !a.reason?.includes(s.reason) ? `: ${s.reason}` : ''}
                  </span>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  )
}

const took = (s: Step) =>
  s.began_at && s.ended_at
    ? Math.max(0, (new Date(s.ended_at).getTime() - new Date(s.began_at).getTime()) / 1000 - (s.waited_seconds ?? 0))
    : 0

/** What somebody has to agree to before the run goes on. */
function Agreeing({ run }: { run: Run }) {
  const navigate = useNavigate()
  const look = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/stacks/{name}/continue', { params: { path: { name: run.stack } } })),
    onSuccess: (p) => void navigate(`/proposals/${p.id}`),
  })
  return (
    <Sheet>
      {look.isError && (
        <div className="mb-2">
          <Trouble error={look.error} />
        </div>
      )}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        {run.asks ? (
          <Link className="font-semibold text-accent" to={`/proposals/${run.asks}`}>
            Look at proposal {run.asks}
          </Link>
        ) : (
          <Button kind="main" small onClick={() => look.mutate()} disabled={look.isPending}>
            Look at what it asks
          </Button>
        )}
        <span className="min-w-0 flex-1 text-ink-2">
          the run goes on from where it is once somebody agreed; nothing is made anew
        </span>
      </div>
    </Sheet>
  )
}

/** What only a person can tell, without which the run does not end. */
function Giving({ run, awaits }: { run: Run; awaits: NonNullable<Run['awaits']> }) {
  const client = useQueryClient()
  const names = awaits.map((a) => a.name)
  const give = useMutation({
    mutationFn: (inputs: Record<string, string>) =>
      unwrap(api.POST('/api/v1/stacks/{name}/given', { params: { path: { name: run.stack } }, body: { inputs } })),
    onSettled: () => void client.invalidateQueries({ queryKey: ['run', run.id] }),
  })
  return (
    <Sheet pad={false}>
      <div className="flex flex-wrap items-center gap-x-4 gap-y-0.5 px-3.5 py-1.5">
        <PanelForm<Record<string, string>>
          title={`Give run ${run.id} what it waits for`}
          trigger={
            <Button small kind="main" className="md:w-[190px]">
              Give {names.length === 1 ? names[0] : 'values'}
            </Button>
          }
          about="It is recorded with the inputs of the stack."
          values={Object.fromEntries(names.map((n) => [n, '']))}
          submit="Give and go on"
          sending={give}
          onSend={(v, close) =>
            give.mutate(Object.fromEntries(Object.entries(v).filter(([, text]) => text.trim() !== '')), {
              onSuccess: close,
            })
          }
        >
          {awaits.map((a) => (
            <Field
              key={a.name}
              name={a.name}
              label={a.title ?? a.name}
              note={a.title ? a.name : undefined}
              required={awaits.length === 1}
            />
          ))}
        </PanelForm>
        <span className="min-w-0 flex-1 text-ink-2 max-md:basis-full">
          {run.state === 'parked'
            ? 'the run goes on from where it is; nothing is made anew'
            : 'what does not need it goes on meanwhile'}
        </span>
      </div>
    </Sheet>
  )
}

/** A rebuild has two steps of one resource: the graph shows the later one. */
function lastOf(run: Run) {
  const byName = new Map<string, { id: string; label: string; state: string; critical: boolean }>()
  for (const s of run.steps ?? [])
    byName.set(s.resource, { id: s.resource, label: s.resource, state: s.state, critical: s.critical })
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
      if (need && need.resource !== s.resource && shown.get(s.resource) === s.number && shown.get(need.resource) === n)
        seen.set(`${need.resource}>${s.resource}`, {
          from: need.resource,
          to: s.resource,
          critical: s.critical && need.critical,
        })
    }
  }
  return [...seen.values()]
}

function EvidenceSheet({ run, resource }: { run: Run; resource: string | null }) {
  const evidence = useEvidence(run.id, resource)
  const step = run.steps?.findLast((s) => s.resource === resource)
  const list = (evidence.data ?? []).toReversed()
  return (
    <Sheet
      title={resource ?? 'Evidence'}
      note="evidence of its checks, newest first"
      className="h-[220px]"
      label="Evidence"
    >
      {step?.reason && (
        <p className="mb-1.5" style={{ color: step.state === 'failed' ? 'var(--bad)' : undefined }}>
          {step.reason}
        </p>
      )}
      {list.length === 0 && (
        <p className="text-ink-2">
          {resource ? 'Nothing has been asked of it in this run yet.' : 'Choose a step to see what its checks saw.'}
        </p>
      )}
      <EvidenceList list={list} waiting="not yet" />
    </Sheet>
  )
}

function EventsSheet({ events }: { events: Event[] }) {
  const newest = useMemo(() => events.slice(-400).toReversed(), [events])
  return (
    <Sheet
      title="What happened"
      note={events.length > newest.length ? `the newest ${newest.length} of ${events.length}` : 'newest first'}
      className="h-[220px]"
      label="What happened"
    >
      <ol data-events="" className="space-y-1 font-mono text-small">
        {newest.map((e) => (
          <li key={e.number} className="flex gap-3">
            <span className="flex-none font-semibold">{clock(e.at)}</span>
            <span className="min-w-0 flex-1 [overflow-wrap:anywhere]">{e.text}</span>
          </li>
        ))}
      </ol>
    </Sheet>
  )
}
