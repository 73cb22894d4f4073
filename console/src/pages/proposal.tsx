import { useMutation } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, type Proposal } from '../api/client'
import { useMay, useProposal } from '../api/queries'
import { Changes, changeState } from '../parts/changes'
import { Findings } from '../parts/findings'
import Graph from '../parts/graph'
import { useOrder } from '../parts/order'
import { StatePill } from '../parts/state'
import { Uses } from '../parts/uses'
import { Button, Empty, Fact, Facts, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { accountSpan, money, moment, span, inputText } from '../parts/words'
import { Consents, Decide, Stale, useDecision } from '../proposal/decision'

export default function ProposalPage() {
  const asked = useParams().id ?? ''
  const id = Number(asked)
  if (!Number.isInteger(id) || id < 1)
    return (
      <Empty heading title={`${asked} is not the number of a proposal`}>
        Look for it among the{' '}
        <Link className="text-accent underline" to="/proposals">
          proposals
        </Link>
        .
      </Empty>
    )
  return <Numbered id={id} />
}

function Numbered({ id }: { id: number }) {
  const proposal = useProposal(id)
  if (proposal.isPending)
    return (
      <Sheet>
        <Loading />
      </Sheet>
    )
  if (proposal.isLoadingError) return <Trouble page error={proposal.error} retry={() => void proposal.refetch()} />
  return <Content key={proposal.data.id} p={proposal.data} />
}

function Content({ p }: { p: Proposal }) {
  const [agreed, setAgreed] = useState<ReadonlySet<string>>(new Set())
  const [comment, setComment] = useState('')
  const decision = useDecision(p, agreed, comment)
  const open = p.state === 'open'
  const unanswered = open ? p.consents.filter((c) => !agreed.has(c.name)) : []
  useEffect(() => {
    document.title = `${p.state} · proposal ${p.id} · Under Sail`
  }, [p.state, p.id])
  return (
    <>
      <PageTitle
        trail={
          <>
            <Link to={`/stacks/${p.stack}`}>{p.stack}</Link> / <Link to="/proposals">proposals</Link>
          </>
        }
        side={<Ways p={p} />}
      >
        Proposal {p.id} <StatePill state={p.state} />
      </PageTitle>
      <div className="space-y-3">
        {decision.failure !== null && <Trouble error={decision.failure} />}
        {p.state === 'stale' && (
          <Stale p={p} again={() => decision.act.mutate('again')} busy={decision.act.isPending} />
        )}
        <Facts
          action={
            <Decide
              p={p}
              blocked={decision.act.isPending || unanswered.length > 0}
              act={(what) => decision.act.mutate(what)}
              comment={comment}
              onComment={setComment}
            />
          }
        >
          <Fact value={p.summary} label={`proposed by ${p.created_by}, ${moment(p.created_at)}`} />
          <Fact
            value={money(p.cost.hour, p.cost.currency)}
            label={
              p.cost.hour > 0
                ? `about ${Math.round(p.cost.month)} ${p.cost.currency} a month; now ${p.cost_now.hour.toFixed(3)} / h`
                : `now ${p.cost_now.hour.toFixed(3)} / h`
            }
          />
          <Fact
            value={accountSpan(p.seconds, p.rate)}
            label={p.promise ? `expected; the template says ${span(p.promise)}` : 'expected duration'}
          />
          <Fact
            value={p.longest.at(-1) ?? 'nothing'}
            label="decides the duration"
            tone={p.longest.length > 0 ? 'var(--path)' : undefined}
          />
        </Facts>
        {p.why && p.state !== 'stale' && (
          <p className="text-ink-2">
            {p.decided_by && `${p.decided_by}: `}
            {p.why}
          </p>
        )}
        {p.uses.length > 0 && p.consents.some((c) => c.name === 'secret-use') && <Uses list={p.uses} />}
        {p.consents.length > 0 && <Consents p={p} agreed={agreed} unanswered={unanswered.length} onAgree={setAgreed} />}
        {p.findings.length > 0 && (
          <Sheet title="Findings" note={`${p.findings.length}`}>
            <Findings list={p.findings} />
          </Sheet>
        )}
        <div className="grid gap-3 lg:grid-cols-[1.25fr_1fr]">
          <Order p={p} />
          {p.kind === 'retire' || p.kind === 'discard' ? <CostSheet p={p} /> : <Inputs p={p} />}
        </div>
        {p.changes.length > 0 && <Changes changes={p.changes} lines={p.cost.lines} />}
        {p.uses.length > 0 && !p.consents.some((c) => c.name === 'secret-use') && <Uses list={p.uses} />}
        <div className="grid items-start gap-3 lg:grid-cols-2">
          {p.kind !== 'retire' && p.kind !== 'discard' && <CostSheet p={p} />}
          <Rest p={p} />
        </div>
      </div>
    </>
  )
}

/** Ways to take a proposal elsewhere: into a draft, into a review. */
function Ways({ p }: { p: Proposal }) {
  const operates = useMay('operate', p.account)
  const navigate = useNavigate()
  const [copied, setCopied] = useState(false)
  const draft = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/proposals/{id}/draft', { params: { path: { id: p.id } } })),
    onSuccess: (d) =>
      void navigate(`/prepare/${encodeURIComponent(p.template?.split('@')[0] ?? p.stack)}?draft=${d.id}`),
  })
  const copy = async () => {
    const text = await unwrap(
      api.GET('/api/v1/proposals/{id}/markdown', { params: { path: { id: p.id } }, parseAs: 'text' }),
    )
    await navigator.clipboard?.writeText(text)
    setCopied(true)
    setTimeout(() => setCopied(false), 1500)
  }
  return (
    <div className="flex flex-wrap items-center gap-2 max-md:hidden">
      {draft.isError && <span className="text-bad">{draft.error.message}</span>}
      {p.kind === 'apply' && operates && (
        <Button onClick={() => draft.mutate()} disabled={draft.isPending}>
          Change it
        </Button>
      )}
      <Button onClick={() => void copy()}>{copied ? 'Copied' : 'Copy as Markdown'}</Button>
    </div>
  )
}

function Order({ p }: { p: Proposal }) {
  const backwards = p.kind === 'retire' || p.kind === 'discard'
  const list = useMemo(
    () => p.changes.map((c) => ({ name: c.resource, after: c.after.map((a) => a.name), change: c.change })),
    [p],
  )
  const { nodes, edges } = useOrder(list, p.longest, (c) => ({
    state: changeState[c.change] ?? 'waiting',
    word: c.change,
  }))
  return (
    <Sheet
      title={backwards ? 'What goes before what' : 'What waits for what'}
      note={
        p.longest.length > 0 ? (
          <span className="text-path" title={p.longest.join(' › ')}>
            {p.longest.join(' › ')}
          </span>
        ) : undefined
      }
      className="h-[270px]"
      label="Order of the changes"
    >
      <Graph nodes={nodes} edges={edges} label="Order of the changes" />
    </Sheet>
  )
}

function Inputs({ p }: { p: Proposal }) {
  return (
    <Sheet
      title="Inputs"
      note={`${p.template ?? ''} in ${p.account}, ${p.region}`}
      pad={false}
      className="max-h-[270px]"
      label="Inputs"
    >
      <table className="w-full table-fixed">
        <tbody>
          {p.inputs
            .filter((i) => !i.hidden)
            .map((i) => (
              <tr key={i.name}>
                <td className="w-[28%] truncate font-semibold" title={i.title}>
                  {i.name}
                </td>
                <td className="truncate font-mono text-small" title={inputText(i)}>
                  {inputText(i)}
                </td>
                <td className="w-[30%] truncate text-small text-ink-2" title={i.origin}>
                  {i.origin}
                </td>
              </tr>
            ))}
        </tbody>
      </table>
    </Sheet>
  )
}

/** What each resource costs now and afterwards; only what differs, unless nothing does. */
function CostSheet({ p }: { p: Proposal }) {
  const [all, setAll] = useState(false)
  const rows = useMemo(() => {
    const now = new Map(p.cost_now.lines.map((l) => [l.resource, l.hour])),
      then = new Map(p.cost.lines.map((l) => [l.resource, l.hour]))
    return [...new Set([...now.keys(), ...then.keys()])].map((name) => ({
      name,
      now: now.get(name) ?? 0,
      next: then.get(name) ?? 0,
      about: (p.cost.lines.find((l) => l.resource === name) ?? p.cost_now.lines.find((l) => l.resource === name))
        ?.about,
    }))
  }, [p])
  const differ = rows.filter((r) => Math.abs(r.next - r.now) > 1e-9)
  const shown = all ? rows : differ
  const currency = p.cost.currency || p.cost_now.currency
  const signed = (n: number) => (n === 0 ? '–' : `${n > 0 ? '+' : '−'}${Math.abs(n).toFixed(4)}`)
  return (
    <Sheet
      title={`Cost of an hour, ${currency}`}
      note={
        differ.length < rows.length ? (
          <button type="button" className="underline" onClick={() => setAll(!all)}>
            {all ? 'only what differs' : `all ${rows.length}`}
          </button>
        ) : undefined
      }
      pad={shown.length === 0}
      className="max-h-[340px]"
      label="Cost by resource"
    >
      {shown.length === 0 ? (
        <p className="text-ink-2">{rows.length === 0 ? 'Nothing of it has a price.' : 'No price changes.'}</p>
      ) : (
        <table className="w-full">
          <thead>
            <tr>
              <th>Resource</th>
              <th className="max-md:hidden">What</th>
              <th className="text-right">Now</th>
              <th className="text-right">Then</th>
              <th className="text-right">Difference</th>
            </tr>
          </thead>
          <tbody>
            {shown.map((r) => (
              <tr key={r.name}>
                <td className="max-w-[160px] truncate font-semibold" title={r.name}>
                  {r.name}
                </td>
                <td className="max-w-[170px] truncate text-small text-ink-2 max-md:hidden" title={r.about}>
                  {r.about}
                </td>
                <td className="text-right">{r.now ? r.now.toFixed(4) : '–'}</td>
                <td className="text-right">{r.next ? r.next.toFixed(4) : '–'}</td>
                <td className="text-right">{signed(r.next - r.now)}</td>
              </tr>
            ))}
            <tr className="font-semibold">
              <td>Together</td>
              <td className="max-md:hidden" />
              <td className="text-right">{p.cost_now.hour.toFixed(4)}</td>
              <td className="text-right">{p.cost.hour.toFixed(4)}</td>
              <td className="text-right">{signed(p.cost.hour - p.cost_now.hour)}</td>
            </tr>
          </tbody>
        </table>
      )}
    </Sheet>
  )
}

/**
 * Quotas, what can be reached from outside, what holds data, what secrets are handed out, and what sizes comply
 * with.
 */
function Rest({ p }: { p: Proposal }) {
  const lists = [
    ['Reached from outside', p.public],
    ['Hold data', p.data],
    ['Secrets that are handed out', p.reads],
  ] as const
  if (p.quota.length + p.compliance.length + p.public.length + p.data.length + p.reads.length === 0) return null
  return (
    <Sheet title="What a reviewer asks" className="max-h-[340px]" label="What a reviewer asks">
      <dl className="grid grid-cols-[minmax(110px,auto)_minmax(0,1fr)] gap-x-4 gap-y-1">
        {p.quota.map((q) => (
          <div key={q.region + q.name} className="contents">
            <dt className="text-ink-2">{q.name}</dt>
            <dd style={{ color: q.left < 0 ? 'var(--bad)' : undefined }}>
              {q.left} of {q.limit} left{q.region !== p.region && ` in ${q.region}`}
              {q.wanted > 0 && <span className="text-ink-2">; {q.wanted} of it wanted by other proposals</span>}
            </dd>
          </div>
        ))}
        {lists.map(
          ([title, list]) =>
            list.length > 0 && (
              <div key={title} className="contents">
                <dt className="text-ink-2">{title}</dt>
                <dd className="[overflow-wrap:anywhere]">{list.join(', ')}</dd>
              </div>
            ),
        )}
        {p.compliance.map((c) => (
          <div key={c.input + c.what} className="contents">
            <dt className="text-ink-2">{c.input}</dt>
            <dd style={{ color: c.met ? undefined : 'var(--bad)' }}>
              {c.what}: {c.chosen}, {c.needed} needed by {c.by}
            </dd>
          </div>
        ))}
      </dl>
    </Sheet>
  )
}
