import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, type Proposal } from '../api/client'
import { useProposal } from '../api/queries'
import Graph, { type GraphEdge } from '../parts/graph'
import { StatePill } from '../parts/state'
import { Button, Confirm, Fact, Facts, Findings, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { accountSpan, money, moment, valueText } from '../parts/words'

export default function ProposalPage() {
  const id = Number(useParams().id)
  const proposal = useProposal(id)
  if (proposal.isPending) return <Sheet><Loading /></Sheet>
  if (proposal.isError) return <Trouble error={proposal.error} retry={() => void proposal.refetch()} />
  return <Content p={proposal.data} />
}

function Content({ p }: { p: Proposal }) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [failure, setFailure] = useState<unknown>(null)
  const [agreed, setAgreed] = useState<ReadonlySet<string>>(new Set())
  const path = { params: { path: { id: p.id } } }
  const refresh = () => void client.invalidateQueries({ queryKey: ['proposal', p.id] })
  const act = useMutation({
    mutationFn: async (what: 'apply' | 'accept' | 'refuse') => {
      setFailure(null)
      if (what === 'refuse') return unwrap(api.POST('/api/v1/proposals/{id}/refuse', { ...path, body: { why: 'refused in the console' } })).then(() => null)
      if (p.state === 'open') await unwrap(api.POST('/api/v1/proposals/{id}/accept', { params: { path: { id: p.id }, query: { agree: [...agreed] } } }))
      return what === 'apply' ? unwrap(api.POST('/api/v1/proposals/{id}/apply', path)) : null
    },
    onSuccess: (run) => { if (run) void navigate(`/runs/${run.id}`) },
    onError: setFailure,
    onSettled: refresh,
  })
  const open = p.state === 'open' || p.state === 'accepted'
  const longest = useMemo(() => new Set(p.longest), [p])
  const nodes = useMemo(() => p.changes.map((c) => ({ id: c.resource, label: c.resource, state: c.change === 'same' ? 'healthy' : c.change === 'remove' ? 'removed' : c.change === 'keep' ? 'kept' : 'waiting', word: c.change, critical: longest.has(c.resource) })), [p, longest])
  const edges = useMemo<GraphEdge[]>(() => p.changes.flatMap((c) => c.after.map((a) => ({ from: a.name, to: c.resource, critical: p.longest.indexOf(a.name) >= 0 && p.longest.indexOf(c.resource) === p.longest.indexOf(a.name) + 1 })))
    .filter((e) => p.changes.some((c) => c.resource === e.from)), [p])
  const retire = p.kind === 'retire'
  const discard = p.kind === 'discard'
  // Nothing can be accepted before everything that is asked was agreed to by name.
  const unanswered = p.state === 'open' ? p.consents.filter((c) => !agreed.has(c.name)) : []
  const blocked = act.isPending || unanswered.length > 0
  const kept = p.changes.filter((c) => c.change === 'keep').length
  const gone = p.changes.filter((c) => c.change === 'remove').length
  return (
    <>
      <PageTitle trail={<><Link to={`/stacks/${p.stack}`}>{p.stack}</Link> / proposals</>} side={<span className="text-small text-ink-2">proposed by {p.created_by}, {moment(p.created_at)}</span>}>
        Proposal {p.id} <StatePill state={p.state} />
      </PageTitle>
      <div className="space-y-3">
        {failure !== null && <Trouble error={failure} />}
        <Facts
          action={open ? (
            <>
              {p.state === 'open' && <Button onClick={() => act.mutate('refuse')} disabled={act.isPending}>Refuse</Button>}
              {retire ? (
                <Confirm title={`Retire ${p.stack}?`} trigger={<Button kind="danger" disabled={blocked}>Accept and retire</Button>} action={<Button kind="danger" onClick={() => act.mutate('apply')}>Retire it</Button>}>
                  {gone} resources are removed, dependents first.{kept > 0 && ` ${kept} are kept, and still paid for.`}
                </Confirm>
              ) : discard ? (
                <Confirm title="Remove it for good?" trigger={<Button kind="danger" disabled={blocked}>Accept and remove for good</Button>} action={<Button kind="danger" onClick={() => act.mutate('apply')}>Remove it</Button>}>
                  {p.changes.map((c) => c.resource).join(', ')} of {p.stack} was kept, and is removed with what it holds.
                </Confirm>
              ) : (
                <Button kind="main" onClick={() => act.mutate('apply')} disabled={blocked}>{p.state === 'open' ? 'Accept and apply' : 'Apply'}</Button>
              )}
            </>
          ) : p.run ? <Link className="font-semibold text-accent" to={`/runs/${p.run}`}>See run {p.run}</Link> : undefined}
        >
          <Fact value={p.summary} label="what changes" />
          <Fact value={money(p.cost.hour, p.cost.currency)} label={p.cost.hour > 0 ? `about ${Math.round(p.cost.month)} ${p.cost.currency} a month; now ${p.cost_now.hour.toFixed(3)} / h` : `now ${p.cost_now.hour.toFixed(3)} / h`} />
          <Fact value={accountSpan(p.seconds, p.rate)} label="expected duration" />
          <Fact value={p.longest.at(-1) ?? 'nothing'} label="decides the duration" tone={p.longest.length > 0 ? 'var(--path)' : undefined} />
        </Facts>
        {p.why && <p className="text-ink-2">{p.why}</p>}
        {p.consents.length > 0 && (
          <Sheet title={p.state === 'open' ? 'Agree to each of these before it can be accepted' : 'What was to be agreed to'} note={p.state === 'open' ? `${p.consents.length - unanswered.length} of ${p.consents.length} agreed` : undefined}>
            <ul className="space-y-1.5">
              {p.consents.map((c) => (
                <li key={c.name}>
                  <label className="flex items-baseline gap-2.5">
                    {p.state === 'open' && (
                      <input
                        type="checkbox" name={c.name} checked={agreed.has(c.name)} className="translate-y-[1px] accent-[var(--accent)]"
                        onChange={(e) => setAgreed((before) => { const next = new Set(before); if (e.target.checked) next.add(c.name); else next.delete(c.name); return next })}
                      />
                    )}
                    <span><span className="font-semibold">{c.name}</span> <span className="text-ink-2">{c.about}</span></span>
                  </label>
                </li>
              ))}
            </ul>
          </Sheet>
        )}
        {p.findings.length > 0 && <Sheet title="Findings" note={`${p.findings.length}`}><Findings list={p.findings} /></Sheet>}
        <div className="grid gap-3 lg:grid-cols-[1.25fr_1fr]">
          <Sheet title={retire ? 'What goes before what' : 'What waits for what'} note="left before right; rust: the chain that decides the duration" className="h-[270px]">
            <Graph nodes={nodes} edges={edges} label="Order of the changes" />
          </Sheet>
          {retire || discard ? <CostLines p={p} /> : <Inputs p={p} />}
        </div>
        <Changes p={p} />
      </div>
    </>
  )
}

function Inputs({ p }: { p: Proposal }) {
  return (
    <Sheet title="Inputs" note={`${p.template ?? ''} in ${p.account}, ${p.region}`} pad={false}>
      <table className="w-full table-fixed">
        <tbody>
          {p.inputs.filter((i) => !i.hidden).map((i) => (
            <tr key={i.name}>
              <td className="w-[28%] truncate font-semibold" title={i.title}>{i.name}</td>
              <td className="truncate font-mono text-small" title={valueText(i.value)}>{valueText(i.value)}</td>
              <td className="w-[30%] truncate text-small text-ink-2" title={i.origin}>{i.origin}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  )
}

function CostLines({ p }: { p: Proposal }) {
  return (
    <Sheet title="Cost that ends" note={money(p.cost_now.hour, p.cost_now.currency)} pad={false}>
      <table className="w-full">
        <tbody>{p.cost_now.lines.map((l) => <tr key={l.resource}><td className="font-semibold">{l.resource}</td><td className="text-ink-2">{l.about}</td><td className="text-right">{l.hour.toFixed(4)}</td></tr>)}</tbody>
      </table>
    </Sheet>
  )
}

function Changes({ p }: { p: Proposal }) {
  const price = new Map(p.cost.lines.map((l) => [l.resource, l]))
  return (
    <Sheet title="Changes in order" note="what stays the same comes last" pad={false}>
      <table className="w-full table-fixed">
        <thead><tr><th className="w-[14%]">Change</th><th className="w-[19%]">Resource</th><th className="w-[9%] max-md:hidden">Type</th><th className="w-[17%] max-md:hidden">After</th><th>What</th><th className="w-[9%] text-right">Cost / h</th></tr></thead>
        <tbody>
          {[...p.changes.filter((c) => c.change !== 'same'), ...p.changes.filter((c) => c.change === 'same')].map((c) => (
            <tr key={c.resource} className={c.change === 'same' ? 'text-ink-2' : undefined}>
              <td className={c.change === 'remove' || c.change === 'rebuild' ? 'font-semibold text-bad' : 'font-semibold'}>{c.change}{c.loses && <span className="font-normal"> (data is lost)</span>}</td>
              <td className="truncate" title={c.resource}>{c.resource}</td>
              <td className="truncate text-ink-2 max-md:hidden">{c.type}</td>
              <td className="truncate text-ink-2 max-md:hidden" title={c.after.map((a) => a.name).join(', ')}>{c.after.map((a) => a.name).join(', ') || '–'}</td>
              <td className="truncate" title={[c.reason, ...(c.fields ?? []).map((f) => `${f.name}: ${valueText(f.before)} to ${valueText(f.after)} (${f.alter})`)].filter(Boolean).join('\n')}>
                {c.reason && <span className="mr-2">{c.reason}</span>}
                {c.notes?.map((n) => <span key={n} className="mr-2 text-ink-2">{n};</span>)}
                {c.change === 'create'
                  ? <span className="font-mono text-small" title={c.fields?.map((f) => `${f.name} ${valueText(f.after)}`).join('\n')}>{c.fields?.map((f) => `${f.name} ${valueText(f.after)}`).join('; ')}</span>
                  : c.fields?.map((f) => <span key={f.name} className="mr-3 font-mono text-small">{f.name}: {valueText(f.before)} to {valueText(f.after)} <span className="font-sans text-ink-2">({f.alter})</span></span>)}
                {!c.reason && !c.fields && !c.notes && <span className="text-ink-2">{price.get(c.resource)?.about}</span>}
              </td>
              <td className="text-right">{price.has(c.resource) ? price.get(c.resource)!.hour.toFixed(4) : '–'}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  )
}
