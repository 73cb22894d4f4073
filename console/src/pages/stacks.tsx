import { useMutation, useQueryClient } from '@tanstack/react-query'
import { Link, useNavigate } from 'react-router'
import { api, unwrap } from '../api/client'
import { useKept, useMaySomewhere, useStacks } from '../api/queries'
import { Field, PanelForm } from '../parts/form'
import { State, toneColor } from '../parts/state'
import { Button, Empty, Fact, Facts, LinkButton, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { useNow } from '../parts/now'
import { ago, money, moment, valueText } from '../parts/words'

export function StacksPage() {
  const stacks = useStacks()
  const operates = useMaySomewhere('operate')
  const navigate = useNavigate()
  const now = useNow(5_000)
  const list = stacks.data ?? []
  const unhealthy = list.filter((s) => s.state === 'unhealthy')
  const moving = list.filter((s) => s.last_run && !s.last_run.ended_at)
  const costs = [...new Set(list.map((s) => s.currency).filter(Boolean))].map((c) =>
    money(
      list.filter((s) => s.currency === c).reduce((sum, s) => sum + s.hour, 0),
      c,
    ),
  )
  return (
    <>
      <PageTitle
        side={
          operates && (
            <LinkButton to="/library" kind={list.length === 0 ? 'main' : 'plain'}>
              New stack from a template
            </LinkButton>
          )
        }
      >
        Stacks
      </PageTitle>
      {stacks.isError && (
        <div className="mb-3">
          <Trouble error={stacks.error} retry={() => void stacks.refetch()} />
        </div>
      )}
      {stacks.isPending && (
        <Sheet>
          <Loading />
        </Sheet>
      )}
      {stacks.isSuccess && list.length === 0 && (
        <Sheet>
          <Empty
            title="No stacks yet"
            command="undersail propose warnings --template warning-site --account saltmere-lab --region north-fell"
          >
            Choose a template in the{' '}
            <Link className="text-accent underline" to="/library">
              library
            </Link>
            , or propose on the command line; nothing is made before you accept it.
          </Empty>
        </Sheet>
      )}
      {list.length > 0 && (
        <div className="space-y-3">
          <Facts>
            <Fact value={`${list.length - unhealthy.length} of ${list.length}`} label="stacks in order" />
            <Fact
              value={unhealthy.length === 0 ? 'none' : unhealthy.map((s) => s.name).join(', ')}
              label="unhealthy"
              tone={unhealthy.length > 0 ? toneColor('unhealthy') : undefined}
            />
            <Fact value={moving.length === 0 ? 'none' : moving.map((s) => s.name).join(', ')} label="underway" />
            <Fact value={costs.join(', ') || 'no cost'} label="running cost" />
          </Facts>
          <Sheet pad={false}>
            <table className="w-full">
              <thead>
                <tr>
                  <th>Stack</th>
                  <th>State</th>
                  <th>Healthy</th>
                  <th className="max-md:hidden">Template</th>
                  <th className="max-md:hidden">Account and region</th>
                  <th className="max-md:hidden text-right">Cost</th>
                  <th className="max-md:hidden">Verified</th>
                </tr>
              </thead>
              <tbody>
                {list.map((s) => (
                  <tr
                    key={s.name}
                    className="row-link cursor-pointer"
                    onClick={() => void navigate(`/stacks/${s.name}`)}
                  >
                    <td className="font-semibold">
                      <Link className="no-underline hover:underline" to={`/stacks/${s.name}`}>
                        {s.name}
                      </Link>
                    </td>
                    <td>
                      <State state={s.state} />
                    </td>
                    <td>
                      {s.healthy} of {s.total}
                    </td>
                    <td className="max-md:hidden text-ink-2">{s.template || 'never applied'}</td>
                    <td className="max-md:hidden text-ink-2">
                      {s.account}, {s.region}
                    </td>
                    <td className="max-md:hidden text-right">{s.currency ? money(s.hour, s.currency) : '–'}</td>
                    <td className="max-md:hidden text-ink-2">{ago(s.verified_at, now)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Sheet>
          {unhealthy
            .filter((s) => s.last_run?.reason)
            .map((s) => (
              <Sheet
                key={s.name}
                title={`Why ${s.name} is unhealthy`}
                note={<Link to={`/runs/${s.last_run!.id}`}>run {s.last_run!.id}</Link>}
              >
                <p>{s.last_run!.reason}</p>
                {s.next && (
                  <p className="mt-1 text-ink-2">
                    Its{' '}
                    <Link className="text-accent underline" to={`/runs/${s.last_run!.id}`}>
                      run
                    </Link>{' '}
                    tells the ways on; on the command line:{' '}
                    <code className="font-mono text-small text-ink">{s.next}</code>
                  </p>
                )}
              </Sheet>
            ))}
        </div>
      )}
      <KeptSheet />
    </>
  )
}

/** What outlived its stack, with what it costs until it is taken over or removed for good. */
function KeptSheet() {
  const operates = useMaySomewhere('operate')
  const kept = useKept()
  const navigate = useNavigate()
  const discard = useMutation({
    mutationFn: (id: string) => unwrap(api.POST('/api/v1/kept/discard', { body: { name: id } })),
    onSuccess: (proposal) => void navigate(`/proposals/${proposal.id}`),
  })
  const list = kept.data ?? []
  if (list.length === 0) return null
  const costs = [...new Set(list.map((k) => k.currency))].map(
    (c) =>
      `about ${Math.round(list.filter((k) => k.currency === c).reduce((sum, k) => sum + k.month, 0))} ${c} a month`,
  )
  return (
    <div className="mt-3 space-y-3">
      {discard.isError && <Trouble error={discard.error} />}
      <Sheet
        title="Kept"
        note={`${list.some((k) => k.found_at) ? 'outlived their stacks on purpose, or were found' : 'outlived their stacks on purpose'}; ${costs.join(', ')}`}
        pad={false}
      >
        <table className="w-full">
          <thead>
            <tr>
              <th>What</th>
              <th>Type</th>
              <th className="max-md:hidden">Size</th>
              <th className="max-md:hidden">Account and region</th>
              <th className="max-md:hidden">Since</th>
              <th className="text-right">Cost</th>
              <th />
            </tr>
          </thead>
          <tbody>
            {list.map((k) => (
              <tr key={k.id}>
                <td title={k.id}>
                  <span className="font-semibold">
                    {k.stack}/{k.resource}
                  </span>
                  {k.carries && k.carries.length > 0 && (
                    <span className="block text-ink-2">
                      carries {k.carries.join(', ')}: attaching it to a machine is a use of that
                    </span>
                  )}
                  {k.found_at && (
                    <span className="block text-ink-2">
                      found {moment(k.found_at)} with the mark of the stack, and recorded nowhere: propose the stack to
                      record it
                    </span>
                  )}
                </td>
                <td className="text-ink-2">{k.type}</td>
                <td className="max-md:hidden">{valueText(k.want.size)}</td>
                <td className="max-md:hidden text-ink-2">
                  {k.account}, {k.region}
                </td>
                <td className="max-md:hidden text-ink-2">{moment(k.kept_at)}</td>
                <td className="text-right">{money(k.hour, k.currency)}</td>
                <td className="space-x-2 text-right whitespace-nowrap">
                  {operates && <Give id={k.id} stack={k.stack} resource={k.resource} />}
                  {operates && (
                    <Button onClick={() => discard.mutate(k.id)} disabled={discard.isPending}>
                      Propose to remove
                    </Button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </Sheet>
    </div>
  )
}

/** Gives something kept to another stack, which takes it over at its next proposal. */
function Give({ id, stack, resource }: { id: string; stack: string; resource: string }) {
  const known = useQueryClient()
  const move = useMutation({
    mutationFn: (to: string) => unwrap(api.POST('/api/v1/kept/move', { body: { name: id, to } })),
    onSuccess: () => known.invalidateQueries({ queryKey: ['kept'] }),
  })
  return (
    <PanelForm<{ stack: string; resource: string }>
      title={`Give ${stack}/${resource} to a stack`}
      trigger="Give to a stack"
      values={{ stack: '', resource }}
      submit="Give it"
      sending={move}
      about="The next proposal for that stack takes it over as it is; nothing of it is made anew."
      onSend={(v, close) => move.mutate(`${v.stack.trim()}/${v.resource.trim()}`, { onSuccess: close })}
    >
      <Field label="Stack" name="stack" required />
      <Field label="Resource" name="resource" required note="The name that it has in the template of that stack" />
    </PanelForm>
  )
}
