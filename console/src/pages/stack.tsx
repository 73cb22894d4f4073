import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, Refusal, type Resource, type Stack } from '../api/client'
import { goOn } from '../api/continuing'
import { useKept, useMay, useStack } from '../api/queries'
import { Past } from '../stack/past'
import { Retiring } from '../stack/retiring'
import { EvidenceList } from '../parts/evidence'
import { Guide } from '../parts/guide'
import { useNow } from '../parts/now'
import { Reveal } from '../parts/reveal'
import { piece } from '../parts/script'
import { State, StatePill } from '../parts/state'
import { Button, Empty, Fact, Facts, LinkButton, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { ago, clock, counted, money, moment, inputText, valueText } from '../parts/words'

const Plot = piece(() => import('../parts/plot'), 'The plot')

export default function StackPage() {
  const name = useParams().name ?? ''
  const stack = useStack(name)
  if (stack.isPending)
    return (
      <Sheet>
        <Loading />
      </Sheet>
    )
  if (stack.error instanceof Refusal && stack.error.problem.status === 404)
    return <Past name={name} trouble={stack.error} />
  if (stack.isLoadingError) return <Trouble page error={stack.error} retry={() => void stack.refetch()} />
  return <Content s={stack.data} />
}

function Content({ s }: { s: Stack }) {
  const now = useNow(5_000)
  const [chosen, setChosen] = useState<string | null>(null)
  const resources = useMemo(() => s.resources ?? [], [s])
  const shown =
    resources.find((r) => r.name === chosen) ?? resources.find((r) => r.state !== 'healthy') ?? resources.at(-1)
  const running = s.last_run && !s.last_run.ended_at
  const actions = useActions(s)
  const may = useMay('operate', s.account)
  useEffect(() => {
    document.title = `${s.state} · ${s.name} · Under Sail`
  }, [s.state, s.name])
  return (
    <>
      <PageTitle
        trail={
          <>
            <Link to="/stacks">Stacks</Link> / {s.account}, {s.region}
          </>
        }
        side={
          <span className="text-small text-ink-2">
            {s.title} {s.template && `(${s.template})`}
          </span>
        }
      >
        {s.name} <StatePill state={s.state} />
      </PageTitle>
      <div className="space-y-3">
        {actions.verify.isError && <Trouble error={actions.verify.error} />}
        {actions.onward.isError && <Trouble error={actions.onward.error} />}
        {actions.propose.isError && <Trouble error={actions.propose.error} />}
        {actions.propose.data && !actions.propose.data.id && (
          <p role="status" className="rounded-sheet border border-line bg-sheet px-3.5 py-2">
            There is nothing to put right.
          </p>
        )}
        <Facts
          action={
            may && (
              <>
                <LinkButton to={`/prepare/${encodeURIComponent(s.template.split('@')[0] || s.name)}?stack=${s.name}`}>
                  Change
                </LinkButton>
                <Button onClick={() => actions.verify.mutate()} disabled={actions.verify.isPending || !!running}>
                  {actions.verify.isPending ? 'Verifying' : 'Verify now'}
                </Button>
                <Retiring s={s} disabled={!!running} />
              </>
            )
          }
        >
          <Fact
            value={`${s.healthy} of ${s.total}`}
            label={s.unasked ? `resources healthy; ${counted(s.unasked, 'check')} not asked` : 'resources healthy'}
          />
          <Fact value={ago(s.verified_at, now)} label="verified" />
          <Fact value={s.currency ? money(s.hour, s.currency) : '–'} label="running cost" />
          {s.last_run && (
            <Fact
              value={<Link to={`/runs/${s.last_run.id}`}>run {s.last_run.id}</Link>}
              label={
                running
                  ? `${s.last_run.state}, decided by ${s.last_run.decides ?? '–'}`
                  : `last run ${s.last_run.state}`
              }
            />
          )}
        </Facts>
        {s.next && (
          <div className="flex flex-wrap items-center gap-x-4 gap-y-1.5 rounded-sheet border border-bad bg-sheet px-3.5 py-2">
            <p className="min-w-0 flex-1 basis-[420px]">
              {s.last_run?.reason}
              <span className="block text-small text-ink-2">
                on the command line: <code className="font-mono">{s.next}</code>
              </span>
            </p>
            {may && (
              <Button kind="main" onClick={() => actions.onward.mutate()} disabled={actions.onward.isPending}>
                Continue with what is missing
              </Button>
            )}
          </div>
        )}
        {resources.length === 0 && (
          <Sheet>
            <Empty title="Nothing has been made yet" command={`undersail proposals --stack ${s.name}`}>
              Accept its proposal to begin.
            </Empty>
          </Sheet>
        )}
        {resources.length > 0 && (
          <div className="grid items-start gap-3 lg:grid-cols-[1.5fr_1fr]">
            <div className="min-w-0 space-y-3">
              <Sheet title="Resources" note="in dependency order" pad={false}>
                <table className="w-full">
                  <thead>
                    <tr>
                      <th>Resource</th>
                      <th>State</th>
                      <th className="max-md:hidden">Type</th>
                      <th className="max-md:hidden">Id</th>
                      <th className="text-right">Cost / h</th>
                    </tr>
                  </thead>
                  <tbody>
                    {resources.map((r) => (
                      <tr
                        key={r.name}
                        className={`row-link cursor-pointer ${shown?.name === r.name ? 'bg-accent-soft' : ''}`}
                        onClick={() => setChosen(r.name)}
                      >
                        <td className="max-w-[220px] font-semibold whitespace-normal">
                          <button
                            type="button"
                            className="text-left font-semibold break-words"
                            aria-pressed={shown?.name === r.name}
                            onClick={() => setChosen(r.name)}
                          >
                            {r.name}
                          </button>
                        </td>
                        <td>
                          <State state={r.state} />
                        </td>
                        <td className="max-md:hidden text-ink-2">{r.type}</td>
                        <td
                          className="w-full max-w-0 truncate font-mono text-small text-ink-2 max-md:hidden"
                          title={String(r.attributes['id'] ?? '')}
                        >
                          {String(r.attributes['id'] ?? '–')}
                        </td>
                        <td className="text-right">{r.hour > 0 ? r.hour.toFixed(4) : '–'}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </Sheet>
              <Inputs s={s} />
              <Spending s={s} />
            </div>
            <div className="min-w-0 space-y-3">
              <Strayed
                list={resources}
                onPutRight={() => actions.propose.mutate()}
                may={may}
                busy={actions.propose.isPending}
              />
              <KeptHere name={s.name} />
              <Outputs s={s} />
              <Guide name={s.name} />
              {shown && <Details s={s} r={shown} may={may && !running} />}
            </div>
          </div>
        )}
      </div>
    </>
  )
}

/** Verifying, going on, and putting back what strayed, which is proposed like any other change. */
function useActions(s: Stack) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const path = { params: { path: { name: s.name } } }
  const verify = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/stacks/{name}/verify', path)),
    onSettled: () => void client.invalidateQueries({ queryKey: ['stack', s.name] }),
  })
  const propose = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/proposals', { body: { stack: s.name } })),
    onSuccess: (p) => {
      if (p.id) void navigate(`/proposals/${p.id}`)
    },
  })
  const onward = useMutation({
    mutationFn: () => goOn(s.name),
    onSuccess: (to) => void navigate(to),
    onSettled: () => void client.invalidateQueries({ queryKey: ['stack', s.name] }),
  })
  return { verify, propose, onward }
}

/** What the cloud has otherwise than is recorded, as the last verification saw it. */
function Strayed({
  list,
  onPutRight,
  may,
  busy,
}: {
  list: Resource[]
  onPutRight: () => void
  may: boolean
  busy: boolean
}) {
  const strayed = list.filter((r) => r.strayed && r.strayed.length > 0)
  if (strayed.length === 0) return null
  return (
    <Sheet
      title="Strayed"
      note={
        may && (
          <Button small onClick={onPutRight} disabled={busy}>
            Propose to put it back
          </Button>
        )
      }
    >
      <p className="mb-1.5 text-small text-ink-2">Somebody altered this in the cloud, past Under Sail.</p>
      <ul className="space-y-1">
        {strayed.flatMap((r) =>
          r.strayed!.map((f) => (
            <li key={r.name + f.name}>
              <span className="font-semibold">{r.name}</span> {f.name}:{' '}
              <span className="font-mono text-small">{valueText(f.after)}</span> is recorded,{' '}
              <span className="font-mono text-small">{valueText(f.before)}</span> is there
            </li>
          )),
        )}
      </ul>
    </Sheet>
  )
}

/** What it has cost in an hour since it was made, and in all. */
function Spending({ s }: { s: Stack }) {
  const now = useNow(30_000)
  const cost = useQuery({
    queryKey: ['stack', s.name, 'cost'],
    queryFn: () => unwrap(api.GET('/api/v1/stacks/{name}/cost', { params: { path: { name: s.name } } })),
    refetchInterval: 60_000,
  })
  const spending = cost.data
  const history = spending?.history
  const { x, lines } = useMemo(
    () => ({
      x: [...(history ?? []).map((h) => new Date(h.at).getTime() / 1000), now / 1000],
      lines: [
        {
          label: 'an hour',
          values: [...(history ?? []).map((h) => h.hour), history?.at(-1)?.hour ?? 0],
          strong: true,
          steps: true,
        },
      ],
    }),
    [history, now],
  )
  if (!spending || !history || history.length === 0 || !s.currency) return null
  const most = Math.max(...history.map((h) => h.hour))
  const spent = `${spending.spent.toFixed(2)} ${s.currency} since ${moment(history[0]!.at)}`
  return (
    <Sheet title="Cost" note={spent}>
      <Plot
        time
        height={130}
        x={x}
        lines={lines}
        yText={hourly}
        words={`What it costs in an hour: now ${money(history.at(-1)!.hour, s.currency)}, at most ${money(most, s.currency)}; ${spent}`}
      />
      <p className="mt-1 text-small text-ink-2">
        {s.currency} in an hour; now {history.at(-1)!.hour.toFixed(4)}, at most {most.toFixed(4)}; changed{' '}
        {history.length - 1} time{history.length === 2 ? '' : 's'}
      </p>
    </Sheet>
  )
}

const hourly = (v: number) => v.toFixed(3)

/** What outlived earlier stacks of the name, on purpose. */
function KeptHere({ name }: { name: string }) {
  const kept = useKept()
  const mine = (kept.data ?? []).filter((k) => k.stack === name)
  if (mine.length === 0) return null
  return (
    <Sheet title="Kept" note={<Link to="/stacks">all that is kept</Link>}>
      <ul className="space-y-1">
        {mine.map((k) => (
          <li key={k.id}>
            <span className="font-semibold">{k.resource}</span>{' '}
            <span className="text-ink-2">
              {k.type}, since {moment(k.kept_at)}, {money(k.hour, k.currency)}; the next stack of the name takes it over
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  )
}

function Outputs({ s }: { s: Stack }) {
  const list = s.outputs ?? []
  if (list.length === 0) return null
  return (
    <Sheet title="Outputs" pad={false}>
      <table className="w-full table-fixed">
        <tbody>
          {list.map((o) => {
            const text = valueText(o.value)
            return (
              <tr key={o.name}>
                <td className="w-[110px] truncate font-semibold" title={o.about}>
                  {o.name}
                </td>
                <td className="py-1 font-mono text-small whitespace-normal [overflow-wrap:anywhere]" title={o.about}>
                  {o.secret && (
                    <Reveal
                      what={`${s.name} ${o.name}`}
                      asked={{ stack: s.name, name: o.name }}
                      trigger={
                        <button type="button" className="float-right font-sans font-semibold text-accent">
                          Reveal
                        </button>
                      }
                    />
                  )}
                  {/^https?:\/\//.test(text) ? (
                    <a href={text} rel="noreferrer" target="_blank" className="text-accent">
                      {text}
                    </a>
                  ) : (
                    text
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </Sheet>
  )
}

function Details({ s, r, may }: { s: Stack; r: Resource; may: boolean }) {
  const navigate = useNavigate()
  const propose = useMutation({
    mutationFn: (what: 'rebuild' | 'again') =>
      unwrap(
        api.POST('/api/v1/proposals', {
          body: { stack: s.name, [what]: [r.name], ...(what === 'rebuild' && r.guard ? { lift_guard: [r.name] } : {}) },
        }),
      ),
    onSuccess: (p) => void navigate(`/proposals/${p.id}`),
  })
  const marks = [
    r.guard && 'guarded: it refuses removal and rebuild',
    r.kept && 'stays in the cloud when the stack is retired',
    r.holds_data && 'holds data',
  ].filter(Boolean)
  return (
    <Sheet
      title={r.name}
      note={r.healthy_at ? `proved healthy ${clock(r.healthy_at)}` : r.type}
      className="max-h-[300px]"
    >
      {r.reason && <p className="mb-2 text-bad">{r.reason}</p>}
      {marks.length > 0 && <p className="mb-2 text-small text-ink-2">{marks.join('; ')}</p>}
      {propose.isError && (
        <div className="mb-2">
          <Trouble error={propose.error} />
        </div>
      )}
      {may && (
        <div className="mb-2.5 flex flex-wrap gap-2">
          {r.own ? (
            <Button small onClick={() => propose.mutate('again')} disabled={propose.isPending}>
              Propose to run it again
            </Button>
          ) : (
            <Button small onClick={() => propose.mutate('rebuild')} disabled={propose.isPending}>
              {r.guard ? 'Propose to make it anew, its guard lifted' : 'Propose to make it anew'}
            </Button>
          )}
        </div>
      )}
      <EvidenceList list={r.evidence} waiting="fail" />
      <dl className="mt-2.5 grid grid-cols-[110px_1fr] gap-x-3 gap-y-0.5 border-t border-line pt-2.5 text-small">
        {Object.entries(r.attributes)
          .filter(([k, v]) => k !== 'host_key' && k !== 'id' && v !== '' && valueText(v) !== '{}')
          .map(([k, v]) => (
            <div key={k} className="contents">
              <dt className="text-ink-2">{k}</dt>
              <dd className="font-mono [overflow-wrap:anywhere]">{valueText(v)}</dd>
            </div>
          ))}
      </dl>
    </Sheet>
  )
}

function Inputs({ s }: { s: Stack }) {
  return (
    <Sheet title="Inputs" note="and where each came from" pad={false}>
      <table className="w-full table-fixed">
        <tbody>
          {(s.inputs ?? []).map((i) => (
            <tr key={i.name}>
              <td className="w-[130px] truncate font-semibold" title={i.title}>
                {i.name}
              </td>
              <td className="truncate font-mono text-small" title={inputText(i)}>
                {inputText(i)}
                {valueText(i.value).startsWith('secret:') && (
                  <Reveal
                    what={`${s.name} ${i.name}`}
                    asked={{ stack: s.name, name: i.name }}
                    trigger={
                      <button type="button" className="ml-2 font-sans font-semibold text-accent">
                        Reveal
                      </button>
                    }
                  />
                )}
              </td>
              <td className="w-[96px] text-small text-ink-2">{i.origin}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  )
}
