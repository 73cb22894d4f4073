import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, unwrap } from '../api/client'
import { useMaySomewhere } from '../api/queries'
import { useNow } from '../parts/now'
import { Empty, LinkButton, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { ago } from '../parts/words'

/** What somebody has filled in and not yet proposed. */
export default function DraftsPage() {
  const now = useNow(10_000)
  const operates = useMaySomewhere('operate')
  const drafts = useQuery({ queryKey: ['drafts'], queryFn: () => unwrap(api.GET('/api/v1/drafts')) })
  return (
    <>
      <PageTitle side={operates && <LinkButton to="/library">New stack from a template</LinkButton>}>Prepare</PageTitle>
      {drafts.isPending && (
        <Sheet>
          <Loading />
        </Sheet>
      )}
      {drafts.isError && <Trouble error={drafts.error} retry={() => void drafts.refetch()} />}
      {drafts.data?.length === 0 && (
        <Empty title="Nothing is being prepared">
          Choose a template in the{' '}
          <Link className="text-accent underline" to="/library">
            library
          </Link>
          ; what you fill in is kept here until you propose it.
        </Empty>
      )}
      {drafts.data && drafts.data.length > 0 && (
        <Sheet title="Drafts" note="changed last first" pad={false}>
          <table className="w-full">
            <thead>
              <tr>
                <th>Stack</th>
                <th>Template</th>
                <th className="max-md:hidden">Where</th>
                <th>By</th>
                <th>Kept</th>
              </tr>
            </thead>
            <tbody>
              {drafts.data.map((d) => (
                <tr key={d.id} className="row-link">
                  <td>
                    <Link
                      className="font-semibold"
                      to={`/prepare/${encodeURIComponent(d.body.template ?? d.body.stack)}?draft=${d.id}`}
                    >
                      {d.body.stack || 'without a name'}
                    </Link>
                  </td>
                  <td>{d.body.template || 'that of the stack'}</td>
                  <td className="max-md:hidden">{[d.body.account, d.body.region].filter(Boolean).join(', ') || '–'}</td>
                  <td>{d.made_by}</td>
                  <td className="text-ink-2">{ago(d.changed_at, now)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Sheet>
      )}
    </>
  )
}
