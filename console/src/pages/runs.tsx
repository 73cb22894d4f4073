import { Link, useNavigate } from 'react-router'
import { useRuns } from '../api/queries'
import { useNow } from '../parts/now'
import { State } from '../parts/state'
import { Empty, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { accountSpan, moment } from '../parts/words'

export default function RunsPage() {
  const runs = useRuns()
  const navigate = useNavigate()
  const now = useNow(1_000)
  return (
    <>
      <PageTitle>Runs</PageTitle>
      {runs.isError && <Trouble error={runs.error} retry={() => void runs.refetch()} />}
      {runs.isPending && (
        <Sheet>
          <Loading />
        </Sheet>
      )}
      {runs.data?.length === 0 && (
        <Sheet>
          <Empty title="No runs yet" command="undersail proposals">
            Accept a proposal and apply it.
          </Empty>
        </Sheet>
      )}
      {runs.data && runs.data.length > 0 && (
        <Sheet pad={false}>
          <table className="w-full">
            <thead>
              <tr>
                <th>Run</th>
                <th>State</th>
                <th>Stack</th>
                <th>Steps</th>
                <th className="max-md:hidden">Decided by</th>
                <th className="max-md:hidden">By</th>
                <th className="max-md:hidden">Began</th>
                <th className="text-right">Took</th>
              </tr>
            </thead>
            <tbody>
              {runs.data.map((r) => (
                <tr key={r.id} className="row-link cursor-pointer" onClick={() => void navigate(`/runs/${r.id}`)}>
                  <td className="font-semibold">
                    <Link className="no-underline hover:underline" to={`/runs/${r.id}`}>
                      {r.kind} {r.id}
                    </Link>
                  </td>
                  <td>
                    <State state={r.state} />
                  </td>
                  <td>{r.stack}</td>
                  <td>
                    {r.finished} of {r.total}
                  </td>
                  <td className="max-md:hidden w-full max-w-0 truncate text-ink-2" title={r.decides ?? r.reason}>
                    {r.decides ?? r.reason ?? '–'}
                  </td>
                  <td className="max-md:hidden text-ink-2">{r.started_by}</td>
                  <td className="max-md:hidden text-ink-2">{moment(r.created_at)}</td>
                  <td className="text-right">
                    {r.started_at
                      ? accountSpan(
                          r.under_way_seconds +
                            (['underway', 'stopping', 'undoing'].includes(r.state)
                              ? (now - runs.dataUpdatedAt) / 1000
                              : 0),
                          r.rate,
                        )
                      : '–'}
                    {r.waited_seconds >= 1 && (
                      <span className="block text-small text-ink-2">
                        waited {accountSpan(r.waited_seconds, r.rate)}
                      </span>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Sheet>
      )}
    </>
  )
}
