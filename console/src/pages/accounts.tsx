import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useNavigate, useParams } from 'react-router'
import { api, unwrap, type Schemas } from '../api/client'
import { useMe } from '../api/queries'
import { Field, Only, PanelForm } from '../parts/form'
import { useNow } from '../parts/now'
import { State } from '../parts/state'
import { Button, Choice, Empty, Fact, Facts, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { moment, until } from '../parts/words'

type Detail = Schemas['AccountDetail']

const useAccounts = () => useQuery({ queryKey: ['accounts'], queryFn: () => unwrap(api.GET('/api/v1/accounts')) })
const useAccount = (account: string) =>
  useQuery({
    queryKey: ['account', account],
    queryFn: () => unwrap(api.GET('/api/v1/accounts/{account}', { params: { path: { account } } })),
  })

export default function AccountsPage() {
  const accounts = useAccounts()
  const me = useMe()
  const chosen = useParams().name ?? accounts.data?.[0]?.name
  const admin = me.data?.may?.includes('administer') ?? false
  return (
    <>
      <PageTitle side={admin && <Add />}>Accounts</PageTitle>
      {accounts.isError && <Trouble error={accounts.error} retry={() => void accounts.refetch()} />}
      {accounts.isPending && (
        <Sheet>
          <Loading />
        </Sheet>
      )}
      {accounts.data?.length === 0 && (
        <Sheet>
          <Empty title="There is no account yet" command="undersail accounts add NAME --endpoint URL --client-id ID">
            Add one of a cloud; its credentials are tested and sealed.
          </Empty>
        </Sheet>
      )}
      {(accounts.data?.length ?? 0) > 0 && (
        <div className="grid items-start gap-3 lg:grid-cols-[230px_1fr]">
          <Sheet pad={false}>
            <ul>
              {accounts.data?.map((a) => (
                <li key={a.name} className="border-t border-line first:border-t-0">
                  <Link
                    to={`/accounts/${a.name}`}
                    aria-current={a.name === chosen}
                    className={`block px-3.5 py-2 no-underline ${a.name === chosen ? 'bg-accent-soft' : 'hover:bg-accent-soft'}`}
                  >
                    <span className="font-semibold">{a.name}</span>
                    <span className="block text-small text-ink-2">
                      {a.cloud}; {a.closed_at ? 'closed' : `${a.stacks} ${a.stacks === 1 ? 'stack' : 'stacks'}`}
                    </span>
                  </Link>
                </li>
              ))}
            </ul>
          </Sheet>
          {chosen && (
            <Account
              key={chosen}
              name={chosen}
              admin={admin || (me.data?.may_in?.[chosen]?.includes('administer') ?? false)}
            />
          )}
        </div>
      )}
    </>
  )
}

function Account({ name, admin }: { name: string; admin: boolean }) {
  const client = useQueryClient()
  const account = useAccount(name)
  const now = useNow(10_000)
  const test = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/accounts/{account}/test', { params: { path: { account: name } } })),
    onSuccess: (d) => client.setQueryData(['account', name], d),
  })
  if (account.isPending)
    return (
      <Sheet>
        <Loading />
      </Sheet>
    )
  if (account.isLoadingError) return <Trouble page error={account.error} retry={() => void account.refetch()} />
  const d = account.data
  const soon = d.credentials_end !== undefined && new Date(d.credentials_end).getTime() - now < 7 * 86_400_000
  return (
    <div className="min-w-0 space-y-3">
      <Facts
        action={
          !d.closed_at && (
            <>
              <Button onClick={() => test.mutate()} disabled={test.isPending}>
                {test.isPending ? 'Asking' : 'Test now'}
              </Button>
              {admin && <Renew name={name} cloud={d.cloud} />}
            </>
          )
        }
      >
        <Fact
          value={d.identity.account || '–'}
          label={d.identity.roles.length > 0 ? `signed in as, ${d.identity.roles.join(', ')}` : 'signed in as'}
        />
        <Fact
          value={d.credentials_end ? until(d.credentials_end, now) : 'no end'}
          label="credentials end"
          tone={soon ? 'var(--bad)' : undefined}
        />
        <Fact
          value={
            d.left === undefined
              ? `${d.spent.toFixed(2)} ${d.currency ?? ''}`
              : `${d.left.toFixed(0)} ${d.currency ?? ''}`
          }
          label={d.budget === undefined ? 'spent this month; no budget' : `left of ${d.budget.toFixed(0)} this month`}
          tone={d.left !== undefined && d.left < 0 ? 'var(--bad)' : undefined}
        />
        <Fact value={`${d.month.toFixed(0)} ${d.currency ?? ''}`} label="a month of what runs" />
      </Facts>
      {test.isError && <Trouble error={test.error} />}
      {d.problem && (
        <p role="alert" className="rounded-sheet border border-bad bg-bad-soft px-3.5 py-2">
          <span className="font-semibold text-bad">The cloud does not accept it: {d.problem}</span> What to do:{' '}
          {d.remedy}
        </p>
      )}
      {d.closed_at && (
        <p className="rounded-sheet border border-line bg-sheet px-3.5 py-2">
          Closed {moment(d.closed_at)}: {d.closed_why}
        </p>
      )}
      <div className="grid items-start gap-3 xl:grid-cols-[1fr_1fr]">
        <Held d={d} />
        <Running d={d} />
      </div>
      {!d.closed_at && <Places d={d} />}
    </div>
  )
}

function Held({ d }: { d: Detail }) {
  const rows: [string, string][] = [
    ['cloud', `${d.cloud} at ${d.endpoint}`],
    ['tested', d.tested_at ? moment(d.tested_at) : 'not yet'],
    ['may make', d.identity.makes === undefined ? 'the cloud does not tell' : d.identity.makes.join(', ')],
    ['stacks only in', d.allowed_regions.join(', ') || 'every region'],
    ['lab account', d.ends_at ? `ends ${moment(d.ends_at)}` : 'no end'],
    ['lease of a stack', d.lease_seconds ? `${Math.round(d.lease_seconds / 86_400)} days` : 'none'],
    [
      'tags',
      Object.entries(d.tags)
        .map(([k, v]) => `${k}=${v}`)
        .join(', ') || 'none',
    ],
    ['accepted by', d.second_person ? 'somebody else than the author' : 'anybody who may'],
    [
      'asks for consent',
      d.most_month === undefined ? 'never because of cost' : `above ${d.most_month.toFixed(0)} a month`,
    ],
  ]
  return (
    <Sheet title="What it is, and what it is held to" pad={false}>
      <table className="w-full table-fixed">
        <tbody>
          {rows.map(([k, v]) => (
            <tr key={k}>
              <td className="w-[130px] text-ink-2">{k}</td>
              <td className="h-auto py-1 whitespace-normal">{v}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  )
}

function Running({ d }: { d: Detail }) {
  return (
    <Sheet title="Stacks" note={`${d.running.length}`} pad={false}>
      {d.running.length === 0 && <Empty title="No stacks">Propose one from the library.</Empty>}
      <table className="w-full">
        <tbody>
          {d.running.map((s) => (
            <tr key={s.name}>
              <td className="font-semibold">
                <Link to={`/stacks/${s.name}`}>{s.name}</Link>
              </td>
              <td>
                <State state={s.state} />
              </td>
              <td className="text-ink-2">{s.region}</td>
              <td className="text-right">{s.hour.toFixed(3)} / h</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Sheet>
  )
}

function Places({ d }: { d: Detail }) {
  const [region, setRegion] = useState(d.running[0]?.region ?? d.regions[0] ?? '')
  const params = { params: { path: { account: d.name }, query: { region } } }
  const offers = useQuery({
    queryKey: ['offers', d.name, region],
    queryFn: () => unwrap(api.GET('/api/v1/accounts/{account}/offers', params)),
    enabled: region !== '',
    staleTime: 60_000,
  })
  const addresses = useQuery({
    queryKey: ['addresses', d.name, region],
    queryFn: () => unwrap(api.GET('/api/v1/accounts/{account}/addresses', params)),
    enabled: region !== '',
  })
  const o = offers.data
  return (
    <>
      <div className="flex flex-wrap items-center gap-1.5" role="group" aria-label="Region">
        {d.regions.map((r) => (
          <Choice key={r} chosen={r === region} onChoose={() => setRegion(r)}>
            {r}
          </Choice>
        ))}
      </div>
      {offers.isError && <Trouble error={offers.error} retry={() => void offers.refetch()} />}
      <div className="grid items-start gap-3 xl:grid-cols-[1fr_1fr]">
        <Sheet title={`Quota in ${region}`} note={o?.at ? `told ${moment(o.at)}` : undefined}>
          {!o && !offers.isError && <Loading />}
          {o && (
            <ul className="space-y-2">
              {Object.entries(o.quotas)
                .sort(([a], [b]) => (a < b ? -1 : 1))
                .map(([name, q]) => (
                  <Bar key={name} name={name} used={q.used} most={q.limit} />
                ))}
            </ul>
          )}
        </Sheet>
        <div className="min-w-0 space-y-3">
          <Sheet title="Offers" pad={false}>
            {!o && !offers.isError && <Loading />}
            {o && (
              <table className="w-full table-fixed">
                <tbody>
                  <tr>
                    <td className="w-[110px] text-ink-2">zones</td>
                    <td className="py-1.5 whitespace-normal">{o.zones.join(', ')}</td>
                  </tr>
                  <tr>
                    <td className="text-ink-2">sizes</td>
                    <td className="py-1.5 whitespace-normal">{families(o.sizes)}</td>
                  </tr>
                  <tr>
                    <td className="text-ink-2">disks</td>
                    <td className="py-1.5 whitespace-normal">{o.disk_types.map((t) => t.name).join(', ')}</td>
                  </tr>
                  <tr>
                    <td className="text-ink-2">images</td>
                    <td className="py-1.5 whitespace-normal">{o.images.map((i) => i.name).join(', ')}</td>
                  </tr>
                </tbody>
              </table>
            )}
          </Sheet>
          <Sheet title="Addresses that are taken" pad={false}>
            {addresses.isError && <Trouble error={addresses.error} />}
            {addresses.data?.map.areas.length === 0 && <p className="px-3.5 py-2 text-ink-2">Nothing is taken yet.</p>}
            <table className="w-full table-fixed">
              <tbody>
                {addresses.data?.map.areas.map((a) => (
                  <tr key={a.range + a.kind + a.name}>
                    <td className="w-[140px] font-mono text-small">{a.range}</td>
                    <td className="w-[90px] text-ink-2">{a.kind}</td>
                    <td className="py-1.5 whitespace-normal">{a.name}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Sheet>
        </div>
      </div>
    </>
  )
}

function families(sizes: Schemas['Size'][]): string {
  const count = new Map<string, number>()
  for (const s of sizes) count.set(s.family, (count.get(s.family) ?? 0) + 1)
  return [...count].map(([family, n]) => `${n} ${family}`).join(', ')
}

/** How much of a quota is used, by length and figure. */
function Bar({ name, used, most }: { name: string; used: number; most: number }) {
  const share = most > 0 ? Math.min(1, used / most) : 0
  return (
    <li className="grid grid-cols-[minmax(0,150px)_1fr_90px] items-center gap-3 text-small">
      <span className="truncate" title={name}>
        {name.replaceAll('_', ' ')}
      </span>
      <span
        className="h-2 overflow-hidden rounded-full bg-line"
        role="meter"
        aria-valuenow={used}
        aria-valuemin={0}
        aria-valuemax={most}
        aria-label={name}
      >
        <span
          className="block h-full"
          style={{ width: `${share * 100}%`, background: share >= 0.9 ? 'var(--bad)' : 'var(--accent)' }}
        />
      </span>
      <span className="text-right text-ink-2">{most > 0 ? `${used} of ${most}` : 'none granted'}</span>
    </li>
  )
}

/** The clouds that there are, as they tell what an account of them is added with. */
const useClouds = () =>
  useQuery({ queryKey: ['clouds'], queryFn: () => unwrap(api.GET('/api/v1/clouds')), staleTime: Infinity })

/** What was given of the fields of a cloud; those that are empty are left out. */
const given = (kind: Schemas['CloudKind'] | undefined, v: Record<string, string>) =>
  Object.fromEntries(
    (kind?.credentials ?? []).flatMap((f) => (v[f.name] ? [[f.name, v[f.name]]] : [])) as [string, string][],
  )

function Renew({ name, cloud }: { name: string; cloud: string }) {
  const client = useQueryClient()
  const kind = useClouds().data?.find((k) => k.name === cloud)
  const renew = useMutation({
    mutationFn: (body: Schemas['RenewedCredentials']) =>
      unwrap(api.PUT('/api/v1/accounts/{account}/credentials', { params: { path: { account: name } }, body })),
    onSuccess: () => {
      void client.invalidateQueries({ queryKey: ['account', name] })
      void client.invalidateQueries({ queryKey: ['runs'] })
    },
  })
  return (
    <PanelForm<Record<string, string>>
      title={`Renew the credentials of ${name}`}
      trigger="Renew"
      about="They are tested first. Runs that wait for them go on."
      submit="Test and keep"
      sending={renew}
      values={{}}
      onSend={(v, close) => renew.mutate({ credentials: given(kind, v) }, { onSuccess: close })}
    >
      {kind?.credentials.map((f) => (
        <Field
          key={f.name}
          label={f.label}
          name={f.name}
          note={f.secret ? f.note : 'the one that it has when left empty'}
          secret={f.secret}
          required={f.secret}
        />
      ))}
    </PanelForm>
  )
}

function Add() {
  const client = useQueryClient()
  const navigate = useNavigate()
  const clouds = useClouds().data ?? []
  const add = useMutation({
    mutationFn: (body: Schemas['NewAccount']) => unwrap(api.POST('/api/v1/accounts', { body })),
    onSuccess: (a) => {
      void client.invalidateQueries({ queryKey: ['accounts'] })
      void navigate(`/accounts/${a.name}`)
    },
  })
  if (!clouds[0]) return null
  return (
    <PanelForm<Record<string, string>>
      title="Add an account"
      trigger="Add an account"
      about="Its credentials are tested first, and sealed together with the endpoint."
      submit="Test and keep"
      sending={add}
      values={{ name: '', cloud: clouds[0].name }}
      onSend={(v, close) =>
        add.mutate(
          {
            name: v.name!,
            cloud: v.cloud!,
            endpoint: v.endpoint!,
            credentials: given(
              clouds.find((k) => k.name === v.cloud),
              v,
            ),
          },
          { onSuccess: close },
        )
      }
    >
      <Field label="Name" name="name" required />
      <Field label="Cloud" name="cloud" choices={clouds.map((k) => [k.name, k.title])} />
      {clouds.map((k) => (
        <Only key={k.name} when="cloud" is={k.name}>
          <Field label={k.endpoint.label} name="endpoint" note={k.endpoint.note} required />
          {k.credentials.map((f) => (
            <Field key={f.name} label={f.label} name={f.name} note={f.note} secret={f.secret} required />
          ))}
          {k.files && (
            <p className="mt-2 text-small text-ink-2">
              The command line reads them from {k.files}: undersail accounts add.
            </p>
          )}
        </Only>
      ))}
    </PanelForm>
  )
}
