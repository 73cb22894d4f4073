import { useMutation, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, type Proposal } from '../api/client'
import { useMay, useMe, useProposal } from '../api/queries'
import { Changes, changeState } from '../parts/changes'
import { box, Panel } from '../parts/form'
import { Findings } from '../parts/findings'
import Graph from '../parts/graph'
import { useOrder } from '../parts/order'
import { Interruptions } from '../parts/interruptions'
import { StatePill } from '../parts/state'
import { Uses } from '../parts/uses'
import { Button, Confirm, Empty, Fact, Facts, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { accountSpan, money, moment, span, inputText } from '../parts/words'

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

/** A consent as it is given: for what was shown, where it says what that is. */
const asShown = (c: Proposal['consents'][number]) => {
  const digest = c.name === 'secret-use' ? /\(([0-9a-f]{16})\)$/.exec(c.about)?.[1] : undefined
  return digest ? `${c.name}=${digest}` : c.name
}

const none: never[] = []

type Decision = 'apply' | 'accept' | 'refuse' | 'again'

function useDecision(p: Proposal, agreed: ReadonlySet<string>, comment: string) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const [failure, setFailure] = useState<unknown>(null)
  const path = { params: { path: { id: p.id } } }
  const act = useMutation({
    mutationFn: async (what: Decision): Promise<string | null> => {
      setFailure(null)
      if (what === 'refuse')
        return unwrap(
          api.POST('/api/v1/proposals/{id}/refuse', { ...path, body: { why: comment || 'refused in the console' } }),
        ).then(() => null)
      if (what === 'again') {
        const next = await unwrap(api.POST('/api/v1/proposals/{id}/renewal', path))
        return next.id ? `/proposals/${next.id}` : `/stacks/${p.stack}`
      }
      if (p.state === 'open')
        await unwrap(
          api.POST('/api/v1/proposals/{id}/accept', {
            params: {
              path: { id: p.id },
              query: {
                agree: p.consents.filter((c) => agreed.has(c.name)).map(asShown),
                comment: comment || undefined,
              },
            },
          }),
        )
      return what === 'apply'
        ? unwrap(api.POST('/api/v1/proposals/{id}/apply', path)).then((run) => `/runs/${run.id}`)
        : null
    },
    onSuccess: (to) => {
      if (to) void navigate(to)
    },
    onError: setFailure,
    onSettled: () => {
      void client.invalidateQueries({ queryKey: ['proposal', p.id] })
      void client.invalidateQueries({ queryKey: ['proposals'] })
    },
  })
  return { act, failure }
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

/** What moved since the proposal was made, and the way on. */
function Stale({ p, again, busy }: { p: Proposal; again: () => void; busy: boolean }) {
  const operates = useMay('operate', p.account)
  return (
    <div
      role="status"
      className="flex flex-wrap items-center gap-3 rounded-sheet border border-settling bg-settling-soft px-3.5 py-2"
    >
      <span className="min-w-0 flex-1">
        <span className="font-semibold">It no longer fits what is there.</span> {p.why}
      </span>
      {p.kind === 'apply' && operates && (
        <Button kind="main" onClick={again} disabled={busy}>
          {busy ? 'Proposing…' : 'Propose again'}
        </Button>
      )}
    </div>
  )
}

function Decide({
  p,
  blocked,
  act,
  comment,
  onComment,
}: {
  p: Proposal
  blocked: boolean
  act: (what: Decision) => void
  comment: string
  onComment: (text: string) => void
}) {
  const me = useMe()
  const decides = useMay('decide', p.account)
  const operates = useMay('operate', p.account)
  if (p.run)
    return (
      <Link className="font-semibold text-accent" to={`/runs/${p.run}`}>
        See run {p.run}
      </Link>
    )
  if (p.state !== 'open' && p.state !== 'accepted') return null
  if ((p.state === 'open' && !decides) || (p.state === 'accepted' && !operates)) return null
  const waits =
    p.state === 'open' && p.second_person === true && [...p.shaped_by, p.created_by].includes(me.data?.name ?? '')
  const kept = p.changes.filter((c) => c.change === 'keep').length
  const gone = p.changes.filter((c) => c.change === 'remove').length
  const words = (
    <label className="mt-3 block text-ink">
      <span className="block text-small font-semibold">Comment</span>
      <textarea
        name="comment"
        value={comment}
        onChange={(e) => onComment(e.target.value)}
        rows={2}
        className={`mt-0.5 w-full ${box}`}
      />
    </label>
  )
  return (
    <div className="flex flex-wrap items-center gap-2">
      {waits && (
        <span role="status" className="text-ink-2">
          Account {p.account} asks that somebody else than you accepts it.
        </span>
      )}
      {p.state === 'open' && (
        <Panel title={`Refuse proposal ${p.id}`} trigger="Refuse">
          {(close) => (
            <>
              {words}
              <div className="mt-4 flex justify-end gap-2">
                <Button onClick={close}>Keep it</Button>
                <Button
                  kind="danger"
                  onClick={() => {
                    close()
                    act('refuse')
                  }}
                >
                  Refuse it
                </Button>
              </div>
            </>
          )}
        </Panel>
      )}
      {!waits && p.state === 'open' && p.kind === 'apply' && (
        <Panel
          title={`Accept proposal ${p.id}`}
          trigger={
            <Button disabled={blocked} className="max-md:hidden">
              Accept with a comment
            </Button>
          }
        >
          {(close) => (
            <>
              {words}
              <div className="mt-4 flex justify-end gap-2">
                <Button
                  onClick={() => {
                    close()
                    act('accept')
                  }}
                >
                  Accept, apply later
                </Button>
                {operates && (
                  <Button
                    kind="main"
                    onClick={() => {
                      close()
                      act('apply')
                    }}
                  >
                    Accept and apply now
                  </Button>
                )}
              </div>
            </>
          )}
        </Panel>
      )}
      {waits ? null : !operates ? (
        <Button kind="main" onClick={() => act('accept')} disabled={blocked}>
          Accept
        </Button>
      ) : p.kind === 'retire' ? (
        <Confirm
          title={`Retire ${p.stack}?`}
          trigger={
            <Button kind="danger" disabled={blocked}>
              Accept and retire
            </Button>
          }
          action={
            <Button kind="danger" onClick={() => act('apply')}>
              Retire it
            </Button>
          }
        >
          {gone} resources are removed, dependents first.{kept > 0 && ` ${kept} are kept, and still paid for.`}
        </Confirm>
      ) : p.kind === 'discard' ? (
        <Confirm
          title="Remove it for good?"
          trigger={
            <Button kind="danger" disabled={blocked}>
              Accept and remove for good
            </Button>
          }
          action={
            <Button kind="danger" onClick={() => act('apply')}>
              Remove it
            </Button>
          }
        >
          {p.changes.map((c) => c.resource).join(', ')} of {p.stack} was kept, and is removed with what it holds.
        </Confirm>
      ) : (
        <Button kind="main" onClick={() => act('apply')} disabled={blocked}>
          {p.kind === 'give' ? 'Accept, and let the run go on' : p.state === 'open' ? 'Accept and apply' : 'Apply'}
        </Button>
      )}
    </div>
  )
}

/** Everything that has to be agreed to by name, with what each means. */
function Consents({
  p,
  agreed,
  unanswered,
  onAgree,
}: {
  p: Proposal
  agreed: ReadonlySet<string>
  unanswered: number
  onAgree: (names: ReadonlySet<string>) => void
}) {
  const open = p.state === 'open'
  return (
    <Sheet
      title={open ? 'Agree to each of these before it can be accepted' : 'What was to be agreed to'}
      note={open ? `${p.consents.length - unanswered} of ${p.consents.length} agreed` : undefined}
    >
      <ul className="space-y-1.5">
        {p.consents.map((c) => {
          const given = p.given.find((g) => g.name === c.name)
          return (
            <li key={c.name}>
              <label className="flex items-baseline gap-2.5">
                {open && (
                  <input
                    type="checkbox"
                    name={c.name}
                    checked={agreed.has(c.name)}
                    className="translate-y-[1px] accent-[var(--accent)]"
                    onChange={(e) => {
                      const next = new Set(agreed)
                      if (e.target.checked) next.add(c.name)
                      else next.delete(c.name)
                      onAgree(next)
                    }}
                  />
                )}
                <span className="min-w-0">
                  <span className="font-semibold">{c.name}</span> <span className="text-ink-2">{c.about}</span>
                  <Interruptions list={p.interruptions ?? none} consent={c.name} rate={p.rate} />
                  {given && (
                    <span className="block text-small text-ink-2">
                      {given.by} agreed, {moment(given.at)}
                    </span>
                  )}
                </span>
              </label>
            </li>
          )
        })}
      </ul>
    </Sheet>
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
