import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { useNow } from '../parts/now'
import { Loading, Trouble } from '../parts/ui'
import { money, span, until } from '../parts/words'
import { ChoosingTable, type Column } from '../parts/choosing-table'
import { box } from '../parts/form'
import { useMeasure, type Measure } from '../parts/measure'
import type { Answer, Keeping } from './draft'

type Place = Schemas['Variant'] & { value: string; why_not: string[]; account: string }

/** Where a stack is to be: its name, the account, and the region, by what this template costs there. */
export function PlacePage({ k, taken }: { k: Keeping; taken: boolean }) {
  const name = k.typed.stack ?? k.draft.body.stack
  const account = k.typed.account ?? k.draft.body.account ?? ''
  const region = k.typed.region ?? k.draft.body.region ?? ''
  const fixed = k.answer?.new === false
  const nowhere = !fixed && !account
  const places = useQuery({
    queryKey: ['places', k.draft.id, k.draft.body.inputs, k.draft.body.preset, k.draft.body.template],
    enabled: !fixed,
    placeholderData: (before) => before,
    staleTime: 15_000,
    refetchInterval: (q) => q.state.data?.some((w) => w.problem) && (nowhere ? 3000 : 30_000),
    queryFn: () => unwrap(api.GET('/api/v1/drafts/{id}/places', { params: { path: { id: k.draft.id } } })),
  })
  const here = places.data?.find((w) => w.account === account)
  // A draft that was begun while no cloud answered gets the best place as soon as one does.
  const change = k.change
  const placeable = nowhere && !!places.data?.some((w) => w.variants.length > 0)
  useEffect(() => {
    if (placeable) change({ account: '' })
  }, [placeable, change])
  return (
    <>
      <section className="border-b border-line px-4 py-3">
        <div className="mb-1.5 flex items-baseline gap-3">
          <label htmlFor="stack-name" className="font-semibold">
            Name of the stack
          </label>
          <span className="text-small text-ink-2">small letters, digits and hyphens</span>
        </div>
        <input
          id="stack-name"
          value={name}
          disabled={fixed && !taken}
          onChange={(e) => k.change({ stack: e.target.value })}
          spellCheck={false}
          autoComplete="off"
          placeholder="intake-south"
          className={`${box} w-64`}
        />
        {taken && (
          <p className="mt-1.5 text-small text-settling">
            There is a stack {name} already: what you propose changes it.
          </p>
        )}
        {k.draft.problem && !nowhere && (
          <p className="mt-1.5 text-small text-bad" role="alert">
            {k.draft.problem}
            {k.draft.remedy && <span className="block text-ink-2">{k.draft.remedy}</span>}
          </p>
        )}
      </section>
      {fixed ? (
        <section className="px-4 py-3">
          <p>
            It stands in <span className="font-semibold">{k.answer?.account}</span>, region{' '}
            <span className="font-semibold">{k.answer?.region}</span>. Another place is another stack.
          </p>
        </section>
      ) : (
        <>
          <section className="border-b border-line px-4 py-3">
            <h3 className="mb-1.5 font-semibold" id="account-title">
              Account
            </h3>
            {nowhere && places.data && !placeable && (
              <p role="status" className="mb-1.5 text-small text-settling">
                No account tells what it sells at the moment. They are asked again, and the best place is chosen as soon
                as one answers.
              </p>
            )}
            {places.isPending && <Loading rows={2} />}
            {places.isError && <Trouble error={places.error} retry={() => void places.refetch()} />}
            <div role="radiogroup" aria-labelledby="account-title">
              {places.data?.map((w) => (
                <label
                  key={w.account}
                  className={`flex items-baseline gap-2.5 rounded-[6px] px-2 py-1.5 ${w.account === account ? 'bg-accent-soft' : ''}`}
                >
                  <input
                    type="radio"
                    name="account"
                    checked={w.account === account}
                    onChange={() => k.change({ account: w.account, region: w.best || w.variants[0]?.region })}
                    className="translate-y-[1px] accent-[var(--accent)]"
                  />
                  <span>
                    <span className="font-semibold">{w.account}</span> <Whoami account={w.account} />
                    {w.problem && <span className="block text-small text-bad">{w.problem}</span>}
                  </span>
                </label>
              ))}
            </div>
          </section>
          <section className="px-4 py-3">
            <h3 className="mb-1.5 font-semibold">
              Region{' '}
              <span className="ml-2 text-small font-normal text-ink-2">
                by what this template costs there, with the inputs so far
              </span>
            </h3>
            {here && here.variants.length > 0 && (
              <Regions
                where={here}
                region={region}
                answer={k.answer}
                onChange={(r) => k.change({ account, region: r })}
              />
            )}
          </section>
        </>
      )}
    </>
  )
}

/** Who one is in an account, until when, and what is left to spend. */
function Whoami({ account }: { account: string }) {
  const now = useNow(30_000)
  const detail = useQuery({
    queryKey: ['account', account],
    queryFn: () => unwrap(api.GET('/api/v1/accounts/{account}', { params: { path: { account } } })),
    staleTime: 60_000,
  })
  const d = detail.data
  if (!d) return null
  const ends = d.credentials_end ?? d.identity.ends
  return (
    <span className="text-small text-ink-2">
      {d.problem ? (
        <span className="text-bad">{d.problem}</span>
      ) : (
        <>
          as {d.identity.account}, {d.identity.roles.join(', ')}
        </>
      )}
      {' · '}
      {ends ? `credentials end ${until(ends, now)}` : 'credentials without an end'}
      {' · '}
      {d.left !== undefined ? (
        <span className={d.left < 0 ? 'text-bad' : undefined}>
          {d.left.toFixed(0)} {d.currency} of the budget left
        </span>
      ) : (
        'no budget set'
      )}
    </span>
  )
}

const ways: Measure<Place>[] = [
  { words: 'cost', title: 'Cost, compared', of: (v) => v.cost.hour, text: (n) => `${n.toFixed(4)} an hour` },
  { words: 'time until it is healthy', title: 'Time, compared', of: (v) => v.seconds, text: span },
]

function Regions({
  where,
  region,
  answer,
  onChange,
}: {
  where: Schemas['Where']
  region: string
  answer: Answer | undefined
  onChange: (region: string) => void
}) {
  // What is chosen is told by the answer that the rest of the page is of, and no other reading.
  const same = (v: Schemas['Variant']) =>
    answer && answer.account === where.account && answer.region === v.region
      ? {
          ...v,
          cost: answer.cost,
          seconds: answer.seconds * answer.rate,
          quota_left: Object.fromEntries(
            answer.quota.filter((q) => q.region === v.region).map((q) => [q.name, q.left]),
          ),
        }
      : v
  const rows = useMemo<Place[]>(
    () =>
      where.variants.map(same).map((v) => ({
        ...v,
        account: where.account,
        value: v.region,
        why_not: v.errors.filter((f) => f.code !== 'missing-input').map((f) => f.message),
      })),
    [where, answer],
  ) // eslint-disable-line
  const { column, tools } = useMeasure(ways, rows)
  const columns = useMemo(() => {
    const least = (v: Place) => Object.entries(v.quota_left ?? {}).toSorted((a, b) => a[1] - b[1])[0]
    const out: Column<Place>[] = [
      {
        id: 'region',
        title: 'Region',
        value: (v) => v.region,
        show: (v) => (
          <>
            {v.region}
            {v.region === where.best && (
              <span className="ml-2 rounded-full bg-accent-soft px-2 text-small font-semibold text-accent">
                best fit
              </span>
            )}
          </>
        ),
      },
      {
        id: 'hour',
        title: 'Cost',
        numeric: true,
        value: (v) => v.cost.hour,
        show: (v) => money(v.cost.hour, v.cost.currency),
      },
      {
        id: 'month',
        title: 'Month',
        numeric: true,
        extra: true,
        value: (v) => v.cost.month,
        show: (v) => v.cost.month.toFixed(0),
      },
      { id: 'time', title: 'Takes', numeric: true, value: (v) => v.seconds, show: (v) => span(v.seconds) },
      column,
      {
        id: 'quota',
        title: 'Quota left',
        wrap: true,
        value: (v) => least(v)?.[1],
        show: (v) =>
          least(v) ? (
            <span style={{ color: least(v)![1] < 0 ? 'var(--bad)' : undefined }}>
              {least(v)![1]} of {least(v)![0]}
            </span>
          ) : (
            'not told'
          ),
      },
    ]
    if (rows.some((v) => v.instead?.length))
      out.push({ id: 'instead', title: 'Instead', extra: true, wrap: true, value: (v) => v.instead?.join(', ') })
    return out
  }, [rows, column, where.best])
  return (
    <>
      {where.best && (
        <p className="mb-1.5 text-small text-ink-2">
          Best: <span className="font-semibold text-ink">{where.best}</span>, {where.why}.
        </p>
      )}
      <ChoosingTable
        label="Regions"
        rows={rows}
        columns={columns}
        chosen={[region]}
        onChoose={(v) => onChange(v[0] ?? '')}
        sorted="measure"
        tools={tools}
      />
    </>
  )
}
