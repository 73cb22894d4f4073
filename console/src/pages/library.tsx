import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, unwrap, type Schemas } from '../api/client'
import { useMaySomewhere, useMe, useStacks, useTemplates } from '../api/queries'
import { AddLibrary, Libraries } from '../library/libraries'
import { Empty, LinkButton, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { money, span } from '../parts/words'

/** Templates: what they are for, who can run them, what they cost there, and who uses them. */
export default function LibraryPage() {
  const templates = useTemplates()
  const stacks = useStacks()
  const operates = useMaySomewhere('operate')
  const may = useMe().data?.may?.includes('publish') ?? false
  const [search, setSearch] = useState('')
  const [maturity, setMaturity] = useState('all')
  if (templates.isPending)
    return (
      <>
        <PageTitle>Library</PageTitle>
        <Sheet>
          <Loading rows={8} />
        </Sheet>
      </>
    )
  if (templates.isLoadingError)
    return (
      <>
        <PageTitle>Library</PageTitle>
        <Trouble error={templates.error} retry={() => void templates.refetch()} />
      </>
    )
  const words = search.toLowerCase().split(/\s+/).filter(Boolean)
  const list = templates.data.filter(
    (t) =>
      (maturity === 'all' || t.maturity === maturity) &&
      words.every((w) => `${t.name} ${t.title} ${t.about}`.toLowerCase().includes(w)),
  )
  const used = (name: string) => stacks.data?.filter((s) => s.template.split('@')[0] === name) ?? []
  return (
    <>
      <PageTitle
        side={
          may && (
            <div className="flex gap-2">
              <AddLibrary />
              <LinkButton to="/library/new">New template</LinkButton>
            </div>
          )
        }
      >
        Library
      </PageTitle>
      <div className="mb-3 flex flex-wrap items-center gap-4">
        <label className="flex items-center gap-2">
          Find{' '}
          <input
            type="search"
            value={search}
            onChange={(e) => setSearch(e.target.value)}
            className="w-56 rounded-[6px] border border-line bg-sheet px-2.5 py-1.5"
          />
        </label>
        <label className="flex items-center gap-2">
          Maturity{' '}
          <select
            value={maturity}
            onChange={(e) => setMaturity(e.target.value)}
            className="rounded-[6px] border border-line bg-sheet px-2 py-1.5"
          >
            <option>all</option>
            <option>supported</option>
            <option>trial</option>
            <option>withdrawn</option>
          </select>
        </label>
        <span className="text-small text-ink-2" aria-live="polite">
          {list.length} of {templates.data.length}
        </span>
      </div>
      {templates.data.length === 0 && (
        <Empty title="The library is empty" command="undersail templates publish FILE">
          Publish a template, or begin a new one.
        </Empty>
      )}
      {templates.data.length > 0 && (
        <Sheet pad={false}>
          <table className="w-full">
            <thead>
              <tr>
                <th>Template</th>
                <th className="max-md:hidden">Maturity</th>
                <th className="text-right max-md:hidden">Promised</th>
                <th className="max-md:hidden">Fits in</th>
                <th className="text-right max-md:hidden">Used by</th>
                <th>
                  <span className="sr-only">Prepare</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {list.map((t) => (
                <tr key={t.name} className="row-link align-top">
                  <td className="py-1.5 whitespace-normal">
                    <Link className="font-semibold" to={`/library/${t.name}`}>
                      {t.title}
                    </Link>
                    <span className="ml-2 text-small text-ink-2">
                      {t.name} {t.version}
                    </span>
                    <span className="line-clamp-2 max-w-[62ch] text-small text-ink-2">{t.about}</span>
                  </td>
                  <td className="py-1.5 max-md:hidden">{t.maturity}</td>
                  <td className="py-1.5 text-right max-md:hidden">
                    {t.takes_seconds > 0 ? span(t.takes_seconds) : '–'}
                  </td>
                  <td className="py-1.5 max-md:hidden">
                    <FitsIn template={t} />
                  </td>
                  <td className="py-1.5 text-right max-md:hidden">{used(t.name).length || '–'}</td>
                  <td className="py-1.5 text-right">
                    {operates && t.maturity !== 'withdrawn' && (
                      <Link
                        className="font-semibold text-accent"
                        to={`/prepare/${t.name}`}
                        aria-label={`Prepare ${t.title}`}
                      >
                        Prepare
                      </Link>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {list.length === 0 && <p className="p-3.5 text-ink-2">No template has these words.</p>}
        </Sheet>
      )}
      <Libraries may={may} />
    </>
  )
}

export const useEverywhere = (template: string, enabled = true) =>
  useQuery({
    queryKey: ['everywhere', template],
    enabled,
    staleTime: 60_000,
    queryFn: () => unwrap(api.POST('/api/v1/fit/everywhere', { body: { stack: '', template } })),
  })

/** In which of one's accounts a template can run, and at which price. */
function FitsIn({ template }: { template: Schemas['Template'] }) {
  const where = useEverywhere(`${template.name}@${template.version}`)
  if (where.isPending) return <span className="text-small text-ink-2">…</span>
  if (where.isLoadingError) return <span className="text-small text-ink-2">not known</span>
  const fits = where.data.filter((w) => w.best)
  if (fits.length === 0) return <span className="text-small text-ink-2">none of {where.data.length} accounts</span>
  return (
    <>
      {fits.map((w) => {
        const v = w.variants.find((x) => x.region === w.best)
        return (
          <span key={w.account} className="block text-small">
            {w.account} <span className="text-ink-2">{v && `${money(v.cost.hour, v.cost.currency)} in ${w.best}`}</span>
          </span>
        )
      })}
    </>
  )
}
