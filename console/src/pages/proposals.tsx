import { Link, useNavigate } from 'react-router'
import { useProposals } from '../api/queries'
import { State } from '../parts/state'
import { Empty, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { money, moment } from '../parts/words'

export default function ProposalsPage() {
  const proposals = useProposals()
  const navigate = useNavigate()
  return (
    <>
      <PageTitle>Proposals</PageTitle>
      {proposals.isError && <Trouble error={proposals.error} retry={() => void proposals.refetch()} />}
      {proposals.isPending && (
        <Sheet>
          <Loading />
        </Sheet>
      )}
      {proposals.data?.length === 0 && (
        <Sheet>
          <Empty title="No proposals yet" command="undersail templates">
            Choose a template, then propose a stack from it.
          </Empty>
        </Sheet>
      )}
      {proposals.data && proposals.data.length > 0 && (
        <Sheet pad={false}>
          <table className="w-full">
            <thead>
              <tr>
                <th>Proposal</th>
                <th>State</th>
                <th>Stack</th>
                <th>What changes</th>
                <th className="max-md:hidden text-right">Cost</th>
                <th className="max-md:hidden">By</th>
                <th className="max-md:hidden">At</th>
              </tr>
            </thead>
            <tbody>
              {proposals.data.map((p) => (
                <tr key={p.id} className="row-link cursor-pointer" onClick={() => void navigate(`/proposals/${p.id}`)}>
                  <td className="font-semibold">
                    <Link className="no-underline hover:underline" to={`/proposals/${p.id}`}>
                      {p.kind} {p.id}
                    </Link>
                  </td>
                  <td>
                    <State state={p.state} />
                  </td>
                  <td>{p.stack}</td>
                  <td className="text-ink-2">{p.summary}</td>
                  <td className="max-md:hidden text-right">{money(p.cost.hour, p.cost.currency)}</td>
                  <td className="max-md:hidden text-ink-2">{p.created_by}</td>
                  <td className="max-md:hidden text-ink-2">{moment(p.created_at)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Sheet>
      )}
    </>
  )
}
