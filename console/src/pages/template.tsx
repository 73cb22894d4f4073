import { useMutation, useQuery } from '@tanstack/react-query'
import { useMemo, useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, type Schemas } from '../api/client'
import { useMaySomewhere, useMe, useRuns, useStacks } from '../api/queries'
import Graph from '../parts/graph'
import { useOrder } from '../parts/order'
import { Button, Fact, Facts, LinkButton, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { counted, money, moment, span, valueText } from '../parts/words'
import { State, StatePill } from '../parts/state'
import { useEverywhere } from './library'

const none: never[] = []

/** One template: what it makes, needs and takes, its inputs, its versions, and who uses it. */
export default function TemplatePage() {
  const { name = '' } = useParams()
  const template = useQuery({
    queryKey: ['template', name],
    queryFn: () => unwrap(api.GET('/api/v1/templates/{ref}', { params: { path: { ref: name } } })),
  })
  if (template.isPending)
    return (
      <Sheet>
        <Loading rows={8} />
      </Sheet>
    )
  if (template.isLoadingError) return <Trouble page error={template.error} retry={() => void template.refetch()} />
  return <Content t={template.data} />
}

function Content({ t }: { t: Schemas['Template'] }) {
  const ref = `${t.name}@${t.version}`
  const where = useEverywhere(ref)
  const me = useMe()
  const operates = useMaySomewhere('operate')
  const best = where.data?.find((w) => w.best) ?? where.data?.find((w) => w.variants.length > 0)
  const region = best?.best || best?.variants[0]?.region
  const check = useQuery({
    queryKey: ['template-check', ref, best?.account, region],
    enabled: !!best && !!region,
    staleTime: 60_000,
    queryFn: () =>
      unwrap(api.POST('/api/v1/checks', { body: { stack: '', template: ref, account: best!.account, region } })),
  })
  const a = check.data
  const { nodes, edges } = useOrder(a?.graph ?? none, a?.longest ?? none, (n) => ({ state: 'waiting', word: n.type }))
  const real = useRealTimes(t.name)
  const variant = best?.variants.find((v) => v.region === region)
  return (
    <>
      <PageTitle
        trail={
          <>
            <Link to="/library">Library</Link> / {t.name} {t.version}
          </>
        }
        side={
          <div className="flex gap-2">
            <LinkButton to={`/library/${t.name}/text`}>
              {me.data?.may?.includes('publish') ? 'Read and edit' : 'Read its text'}
            </LinkButton>
            {(operates || me.data?.may?.includes('publish')) && (
              <LinkButton to={`/library/${t.name}/text?copy=1`}>Copy and change</LinkButton>
            )}
            {operates && t.maturity !== 'withdrawn' && (
              <LinkButton kind="main" to={`/prepare/${t.name}`}>
                Prepare
              </LinkButton>
            )}
          </div>
        }
        title={t.title}
      >
        {t.title}
      </PageTitle>
      <div className="space-y-3">
        <Facts>
          <Fact
            value={t.maturity}
            label={t.from ? `copied from ${t.from}` : t.origin ? `from ${t.origin}` : 'published here'}
          />
          <Fact
            value={a ? counted(a.totals.resources, 'resource') : '…'}
            label={a ? `${counted(a.totals.machines, 'machine')}, ${counted(a.totals.vcpus, 'core')}` : 'what it makes'}
          />
          <Fact
            value={
              a ? money(a.cost.hour, a.cost.currency) : variant ? money(variant.cost.hour, variant.cost.currency) : '–'
            }
            label={best && region ? `in ${region}, ${best.account}` : 'cost'}
          />
          <Fact value={t.takes_seconds > 0 ? span(t.takes_seconds) : 'not said'} label="promised" />
          <Fact
            value={real.length > 0 ? span(real[Math.floor(real.length / 2)]!) : a ? span(a.seconds * a.rate) : '–'}
            label={
              real.length > 0
                ? `really, in the middle of ${real.length} run${real.length > 1 ? 's' : ''}`
                : 'expected by what was learned here'
            }
          />
        </Facts>
        {t.about && <p className="max-w-[90ch] text-ink-2">{t.about}</p>}
        <div className="grid gap-3 lg:grid-cols-[1.25fr_1fr]">
          <Sheet
            title="What it makes"
            note={
              a ? (
                <>
                  with its defaults; <span className="text-path">{a.longest.at(-1)}</span> decides how long
                </>
              ) : undefined
            }
            className="h-[300px]"
          >
            {check.isPending ? (
              <Loading />
            ) : nodes.length > 0 ? (
              <Graph nodes={nodes} edges={edges} label="What it makes" />
            ) : (
              <p className="text-ink-2">
                It cannot be drawn with its defaults alone{check.error ? `: ${String(check.error)}` : ''}.
              </p>
            )}
          </Sheet>
          <Sheet title="Where it fits" note="by what it costs with its defaults" className="h-[300px]" pad={false}>
            {where.isPending ? (
              <Loading />
            ) : where.isLoadingError ? (
              <Trouble error={where.error} />
            ) : (
              <table className="w-full">
                <tbody>
                  {where.data.flatMap((w) =>
                    w.problem
                      ? [
                          <tr key={w.account}>
                            <td className="font-semibold">{w.account}</td>
                            <td colSpan={3} className="text-small whitespace-normal text-ink-2">
                              {w.problem}
                            </td>
                          </tr>,
                        ]
                      : w.variants.map((v) => {
                          const against = v.errors.filter((f) => f.code !== 'missing-input')
                          return (
                            <tr key={w.account + v.region} className={against.length > 0 ? 'text-ink-2' : undefined}>
                              <td className="font-semibold">{w.account}</td>
                              <td>{v.region}</td>
                              <td className="text-right">{money(v.cost.hour, v.cost.currency)}</td>
                              <td className="text-small whitespace-normal">
                                {against.length > 0 ? (
                                  against[0]!.message
                                ) : v.region === w.best ? (
                                  <span className="font-semibold text-accent">best fit</span>
                                ) : (
                                  ''
                                )}
                              </td>
                            </tr>
                          )
                        }),
                  )}
                </tbody>
              </table>
            )}
          </Sheet>
        </div>
        {a && <InputsTable pages={a.pages} />}
        <Cases of={ref} />
        <div className="grid gap-3 lg:grid-cols-2">
          <Versions name={t.name} />
          <Users name={t.name} newest={t.version} />
        </div>
      </div>
    </>
  )
}

/** How long real runs of stacks of a template were worked on, in seconds of their accounts' clocks, in rising order. */
function useRealTimes(name: string): number[] {
  const runs = useRuns()
  const stacks = useStacks()
  return useMemo(() => {
    const of = new Set(stacks.data?.filter((s) => s.template.split('@')[0] === name).map((s) => s.name))
    return (runs.data ?? [])
      .filter((r) => r.kind === 'apply' && r.state === 'done' && r.ended_at && r.started_at && of.has(r.stack))
      .map((r) => r.under_way_seconds * r.rate)
      .toSorted((x, y) => x - y)
  }, [runs.data, stacks.data, name])
}

function InputsTable({ pages }: { pages: Schemas['FormPage'][] }) {
  return (
    <Sheet
      title="Inputs"
      note={`${pages.reduce((n, p) => n + p.fields.length, 0)} on ${pages.length} pages`}
      pad={false}
    >
      <table className="w-full">
        <thead>
          <tr>
            <th>Input</th>
            <th className="max-md:hidden">What it is</th>
            <th>Takes</th>
            <th>Else</th>
          </tr>
        </thead>
        <tbody>
          {pages.flatMap((p) =>
            p.fields.map((f) => (
              <tr key={f.name}>
                <td className="font-mono text-small">{f.name}</td>
                <td className="whitespace-normal max-md:hidden">{f.title ?? f.name}</td>
                <td>{f.secret ? 'a secret' : f.kind}</td>
                <td className="max-w-[240px] truncate text-small text-ink-2">
                  {f.required
                    ? 'must be given'
                    : f.default !== undefined
                      ? valueText(f.default)
                      : f.computed
                        ? 'computed'
                        : f.generate
                          ? 'drawn'
                          : f.free
                            ? 'a free range'
                            : f.sized
                              ? `by ${f.sized.table}`
                              : 'left out'}
                </td>
              </tr>
            )),
          )}
        </tbody>
      </table>
    </Sheet>
  )
}

/** The cases that are kept of it, run on its text just now. */
function Cases({ of }: { of: string }) {
  const navigate = useNavigate()
  const operates = useMaySomewhere('operate')
  const runs = useQuery({
    queryKey: ['cases', of],
    queryFn: () => unwrap(api.GET('/api/v1/templates/{ref}/cases', { params: { path: { ref: of } } })),
    staleTime: 60_000,
  })
  const begin = useMutation({
    mutationFn: (c: Schemas['CaseRun']) =>
      unwrap(
        api.POST('/api/v1/drafts', {
          body: { stack: '', template: of, inputs: c.inputs, ...(c.preset ? { preset: c.preset } : {}) },
        }),
      ),
    onSuccess: (d) => void navigate(`/prepare/${encodeURIComponent(of.split('@')[0]!)}?draft=${d.id}`),
  })
  if (runs.isLoadingError) return <Trouble page error={runs.error} />
  const r = runs.data
  if (!r) return null
  const [name, version] = of.split('@')
  return (
    <Sheet
      title="Cases"
      note={
        r.cases.length === 0
          ? 'none'
          : `${r.holding} of ${r.cases.length} hold${r.saved_with !== version ? `; saved with ${r.saved_with}` : ''}`
      }
      pad={r.cases.length === 0}
    >
      {begin.isError && <Trouble error={begin.error} />}
      {r.cases.length === 0 && (
        <p className="text-ink-2">
          Nobody keeps cases of it. Write them into <code className="font-mono text-small">{name}.cases.yaml</code>{' '}
          beside its file, and publish again or have its library read again.
        </p>
      )}
      {r.cases.length > 0 && (
        <table className="w-full">
          <thead>
            <tr>
              <th>Case</th>
              <th className="max-md:hidden">Given</th>
              <th>Expected</th>
              <th className="max-md:hidden">
                <span className="sr-only">Begin from it</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {r.cases.map((c) => (
              <tr key={c.name} className="align-top">
                <td className="py-1.5 whitespace-normal">
                  <State
                    state={c.failures.length > 0 ? 'failed' : 'healthy'}
                    word={c.failures.length > 0 ? 'fails' : 'holds'}
                  />{' '}
                  <span className="mt-0.5 block font-semibold">{c.name}</span>
                </td>
                <td className="py-1.5 text-small whitespace-normal [overflow-wrap:anywhere] max-md:hidden">
                  {c.preset && <span className="block">preset {c.preset}</span>}
                  {Object.entries(c.inputs).map(([k, v]) => (
                    <span key={k} className="block">
                      <span className="text-ink-2">{k}</span> <span className="font-mono">{valueText(v)}</span>
                    </span>
                  ))}
                  {c.offers && <span className="block text-ink-2">offers of {c.offers}</span>}
                  {!c.preset && !c.offers && Object.keys(c.inputs).length === 0 && (
                    <span className="text-ink-2">nothing</span>
                  )}
                </td>
                <td className="py-1.5 text-small whitespace-normal [overflow-wrap:anywhere]">
                  {c.expects.map((x) => (
                    <span key={x} className="block">
                      {x}
                    </span>
                  ))}
                  {c.failures.map((f) => (
                    <span key={f.message} className="block font-semibold text-bad">
                      {f.message}
                    </span>
                  ))}
                </td>
                <td className="py-1.5 text-right max-md:hidden">
                  {operates && (
                    <Button
                      small
                      disabled={begin.isPending}
                      onClick={() => begin.mutate(c)}
                      aria-label={`Prepare from it: ${c.name}`}
                    >
                      Prepare from it
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  )
}

function Versions({ name }: { name: string }) {
  const versions = useQuery({
    queryKey: ['versions', name],
    queryFn: () => unwrap(api.GET('/api/v1/templates/{ref}/versions', { params: { path: { ref: name } } })),
  })
  const [from, setFrom] = useState('')
  const [to, setTo] = useState('')
  const list = versions.data ?? []
  const after = to || list[0]?.version,
    before = from || list[1]?.version
  const differences = useQuery({
    queryKey: ['differences', name, before, after],
    enabled: !!before && !!after && before !== after,
    queryFn: () =>
      unwrap(
        api.GET('/api/v1/templates/{ref}/differences', {
          params: { path: { ref: `${name}@${after}` }, query: { from: before! } },
        }),
      ),
  })
  const pick = (label: string, value: string | undefined, set: (v: string) => void) => (
    <label className="flex items-center gap-1.5">
      {label}{' '}
      <select
        value={value}
        onChange={(e) => set(e.target.value)}
        className="rounded-[6px] border border-line bg-paper px-1.5 py-0.5"
      >
        {list.map((v) => (
          <option key={v.version}>{v.version}</option>
        ))}
      </select>
    </label>
  )
  return (
    <Sheet title="Versions" note={`${list.length}`}>
      <ul className="space-y-0.5">
        {list.slice(0, 6).map((v) => (
          <li key={v.version}>
            <span className="font-semibold">{v.version}</span>{' '}
            <span className="text-small text-ink-2">
              {v.maturity}, {moment(v.published_at)}
            </span>
          </li>
        ))}
      </ul>
      {list.length > 1 && (
        <>
          <div className="mt-2.5 flex flex-wrap gap-4 border-t border-line pt-2.5 text-small">
            {pick('What changed from', before, setFrom)}
            {pick('to', after, setTo)}
          </div>
          <ul className="mt-1.5 space-y-1">
            {differences.data?.map((d) => (
              <li key={d.what + d.change}>
                <span className={d.breaking ? 'font-semibold text-bad' : 'font-semibold'}>
                  {d.change}
                  {d.breaking && ', breaking'}
                </span>{' '}
                <span className="font-mono text-small">{d.what}</span>
                {d.lines?.map((l) => (
                  <span key={l} className="block font-mono text-small [overflow-wrap:anywhere] text-ink-2">
                    {l}
                  </span>
                ))}
              </li>
            ))}
            {differences.data?.length === 0 && <li className="text-ink-2">They say the same.</li>}
          </ul>
        </>
      )}
      {list.length === 1 && <p className="mt-1.5 text-small text-ink-2">There is nothing to compare it with yet.</p>}
    </Sheet>
  )
}

function Users({ name, newest }: { name: string; newest: string }) {
  const stacks = useStacks()
  const users = (stacks.data ?? []).filter((s) => s.template.split('@')[0] === name)
  return (
    <Sheet
      title="Stacks that use it"
      note={`${users.filter((s) => s.template !== `${name}@${newest}`).length} behind`}
      pad={users.length === 0}
    >
      {users.length === 0 && <p className="text-ink-2">None yet.</p>}
      <table className="w-full">
        <tbody>
          {users.map((s) => {
            const version = s.template.split('@')[1]
            return (
              <tr key={s.name}>
                <td>
                  <Link className="font-semibold" to={`/stacks/${s.name}`}>
                    {s.name}
                  </Link>
                </td>
                <td>
                  <StatePill state={s.state} />
                </td>
                <td>
                  {version}
                  {version !== newest && <span className="ml-2 text-small text-settling">behind</span>}
                </td>
                <td className="text-right">
                  {version !== newest && (
                    <Link className="text-accent underline" to={`/prepare/${name}?stack=${s.name}&version=${newest}`}>
                      take {newest}
                    </Link>
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
