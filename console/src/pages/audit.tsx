import { useInfiniteQuery, useMutation } from '@tanstack/react-query'
import { useState } from 'react'
import { api, unwrap, type Schemas } from '../api/client'
import { useMe } from '../api/queries'
import { Button, Command, Empty, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { moment, valueText } from '../parts/words'

const page = 100

export default function AuditPage() {
  const me = useMe()
  const admin = me.data?.may?.includes('administer') ?? false
  const [filter, setFilter] = useState({ who: '', action: '', subject: '' })
  const list = useInfiniteQuery({
    queryKey: ['audit', filter],
    initialPageParam: 0,
    queryFn: ({ pageParam }) =>
      unwrap(
        api.GET('/api/v1/audit', {
          params: {
            query: {
              who: filter.who || undefined,
              action: filter.action || undefined,
              subject: filter.subject || undefined,
              before: pageParam || undefined,
              limit: page,
            },
          },
        }),
      ),
    getNextPageParam: (last) => (last.length < page ? undefined : last.at(-1)?.number),
  })
  const check = useMutation({ mutationFn: () => unwrap(api.GET('/api/v1/audit/check', { params: { query: {} } })) })
  const entries = list.data?.pages.flat() ?? []
  return (
    <>
      <PageTitle
        side={
          admin && (
            <Button onClick={() => check.mutate()} disabled={check.isPending}>
              {check.isPending ? 'Checking' : 'Check every entry'}
            </Button>
          )
        }
      >
        Audit
      </PageTitle>
      <div className="space-y-3">
        {check.isError && <Trouble error={check.error} />}
        {check.data && <Checked found={check.data} />}
        <div className="flex flex-wrap gap-2" role="search">
          {(['subject', 'action', 'who'] as const)
            .filter((k) => admin || k !== 'who')
            .map((k) => (
              <label key={k} className="text-small text-ink-2">
                {{ subject: 'What it was done to', action: 'What was done', who: 'Who' }[k]}
                <input
                  className="mt-0.5 block w-[200px] rounded-[6px] border border-line bg-sheet px-2.5 py-1 text-base text-ink"
                  value={filter[k]}
                  onChange={(e) => setFilter({ ...filter, [k]: e.target.value.trim() })}
                />
              </label>
            ))}
        </div>
        {list.isError && <Trouble error={list.error} retry={() => void list.refetch()} />}
        {list.isPending && (
          <Sheet>
            <Loading />
          </Sheet>
        )}
        {list.isSuccess && entries.length === 0 && (
          <Sheet>
            <Empty title="Nothing like that was done" />
          </Sheet>
        )}
        {entries.length > 0 && (
          <Sheet pad={false}>
            <table className="w-full table-fixed">
              <thead>
                <tr>
                  <th className="w-[70px] text-right">Entry</th>
                  <th className="w-[170px]">When</th>
                  <th className="w-[130px]">Who</th>
                  <th className="w-[130px]">Did</th>
                  <th className="w-[190px]">To</th>
                  <th>Why and how</th>
                </tr>
              </thead>
              <tbody>
                {entries.map((e) => (
                  <Entry key={e.number} e={e} />
                ))}
              </tbody>
            </table>
          </Sheet>
        )}
        {list.hasNextPage && (
          <Button onClick={() => void list.fetchNextPage()} disabled={list.isFetchingNextPage}>
            Show earlier ones
          </Button>
        )}
      </div>
    </>
  )
}

function Entry({ e }: { e: Schemas['AuditEntry'] }) {
  const [whole, setWhole] = useState(false)
  const refused = Boolean(e.detail['refused'])
  const rest = Object.entries(e.detail)
    .filter(([k, v]) => k !== 'refused' && v !== null && v !== '' && valueText(v) !== '[]' && valueText(v) !== '{}')
    .map(([k, v]) => `${k} ${valueText(v)}`)
    .join('; ')
  return (
    <tr>
      <td className="text-right text-ink-2">{e.number}</td>
      <td className="text-ink-2">{moment(e.at)}</td>
      <td className="truncate" title={e.who}>
        {e.who}
      </td>
      <td className={refused ? 'font-semibold text-bad' : 'font-semibold'}>
        {e.action}
        {refused && ', refused'}
      </td>
      <td className="truncate" title={e.subject}>
        {e.subject || '–'}
      </td>
      <td className={whole ? 'py-1.5 whitespace-normal [overflow-wrap:anywhere]' : 'truncate'}>
        {(e.reason || rest) && (
          <button
            type="button"
            className={whole ? 'text-left' : 'block max-w-full truncate text-left'}
            aria-expanded={whole}
            onClick={() => setWhole(!whole)}
          >
            {e.reason && <span className="mr-2">“{e.reason}”</span>}
            <span className="text-ink-2">{rest}</span>
          </button>
        )}
      </td>
    </tr>
  )
}

function Checked({ found }: { found: Schemas['AuditCheck'] }) {
  if (!found.sound)
    return (
      <p role="alert" className="rounded-sheet border border-bad bg-bad-soft px-3.5 py-2 font-semibold text-bad">
        The audit was changed: {found.fault}
      </p>
    )
  return (
    <div role="status" className="rounded-sheet border border-line bg-sheet px-3.5 py-2">
      All {found.entries} entries are as they were written. Keep this elsewhere, to see later that nothing was cut off:
      <Command text={`undersail audit --check --head ${found.head}`} />
    </div>
  )
}
