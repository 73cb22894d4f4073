import { Link } from 'react-router'
import type { Refusal } from '../api/client'
import { useProposals, useRuns } from '../api/queries'
import { State, StatePill } from '../parts/state'
import { Empty, LinkButton, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { moment, spent } from '../parts/words'

/** A stack that is no longer there, or not yet: what is known of it. */
export function Past({ name, trouble }: { name: string; trouble: Refusal }) {
  const runs = useRuns(name)
  const proposals = useProposals(name)
  if (runs.isPending || proposals.isPending)
    return (
      <Sheet>
        <Loading />
      </Sheet>
    )
  if (runs.isLoadingError || proposals.isLoadingError) return <Trouble page error={trouble} />
  if (runs.data.length + proposals.data.length === 0)
    return (
      <Empty heading title={`There is no stack ${name}`}>
        Look at the{' '}
        <Link className="text-accent underline" to="/stacks">
          stacks
        </Link>{' '}
        that there are, or begin one from the{' '}
        <Link className="text-accent underline" to="/library">
          library
        </Link>
        .
      </Empty>
    )
  const last = runs.data[0]
  const retired = last?.kind === 'retire' && last.state === 'done'
  const template = proposals.data.find((p) => p.template)?.template?.split('@')[0]
  return (
    <>
      <PageTitle
        trail={<Link to="/stacks">Stacks</Link>}
        title={`${name}, ${retired ? 'retired' : 'not applied'}`}
        side={template && <LinkButton to={`/library/${template}`}>Its template</LinkButton>}
      >
        {name} <StatePill state={retired ? 'removed' : 'absent'} />
      </PageTitle>
      <p className="mb-3 text-ink-2">
        {retired
          ? `It was retired by ${last.started_by}, ${moment(last.ended_at!)}; what there was of it is gone, but for what was kept.`
          : 'Nothing of it has been made yet: none of its proposals was applied.'}
      </p>
      <div className="grid items-start gap-3 lg:grid-cols-2">
        <Sheet title="Runs" note={String(runs.data.length)} pad={runs.data.length === 0}>
          {runs.data.length === 0 ? (
            <p className="text-ink-2">None.</p>
          ) : (
            <table className="w-full">
              <tbody>
                {runs.data.map((r) => (
                  <tr key={r.id}>
                    <td>
                      <Link className="font-semibold" to={`/runs/${r.id}`}>
                        {r.kind} {r.id}
                      </Link>
                    </td>
                    <td>
                      <State state={r.state} />
                    </td>
                    <td className="text-ink-2">{moment(r.created_at)}</td>
                    <td className="text-right max-md:hidden">{spent(r)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </Sheet>
        <Sheet title="Proposals" note={String(proposals.data.length)} pad={proposals.data.length === 0}>
          {proposals.data.length === 0 ? (
            <p className="text-ink-2">None.</p>
          ) : (
            <table className="w-full">
              <tbody>
                {proposals.data.map((p) => (
                  <tr key={p.id}>
                    <td>
                      <Link className="font-semibold" to={`/proposals/${p.id}`}>
                        {p.kind} {p.id}
                      </Link>
                    </td>
                    <td>
                      <State state={p.state} />
                    </td>
                    <td className="w-full max-w-0 truncate text-ink-2" title={p.summary}>
                      {p.summary}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </Sheet>
      </div>
    </>
  )
}
