import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useState } from 'react'
import { Link, useNavigate, useParams, useSearchParams } from 'react-router'
import { forget, keep, recall } from '../api/browser'
import { api, unwrap, type Schemas } from '../api/client'
import { useMe } from '../api/queries'
import { FindingMark } from '../parts/findings'
import Graph from '../parts/graph'
import { useOrder } from '../parts/order'
import { Button, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { counted, money, span } from '../parts/words'
import { Editor } from '../library/editor'
import { useEverywhere } from './library'

/** The text of a template: read, changed, checked by the service as it is typed, tidied, published. */
export default function TextPage() {
  const { name = '' } = useParams()
  const [search] = useSearchParams()
  const copy = search.get('copy') === '1'
  const kept = `text ${copy ? 'copy of ' : ''}${name}`
  const template = useQuery({
    queryKey: ['template', name],
    queryFn: () => unwrap(api.GET('/api/v1/templates/{ref}', { params: { path: { ref: name } } })),
    retry: false,
  })
  const begun = recall(kept)
  if (template.isPending)
    return (
      <Sheet>
        <Loading rows={10} />
      </Sheet>
    )
  if (template.isLoadingError && begun === null)
    return <Trouble page error={template.error} retry={() => void template.refetch()} />
  const source = copy && template.data ? copied(template.data) : (template.data?.source ?? '')
  return (
    <Content
      key={kept}
      name={name}
      copy={copy}
      kept={kept}
      published={source}
      begun={begun}
      parts={template.data?.parts}
    />
  )
}

/** The text of a template under a new name that says what it was copied from. */
function copied(t: Schemas['Template']): string {
  const lines = (t.source ?? '').split('\n')
  const at = lines.findIndex((l) => /^ {2}name: /.test(l))
  const version = lines.findIndex((l) => /^ {2}version: /.test(l))
  if (version >= 0) lines[version] = '  version: 0.1.0'
  const from = lines.findIndex((l) => /^ {2}from: /.test(l))
  if (from >= 0) lines.splice(from, 1)
  if (at >= 0) lines.splice(at, 1, `  name: ${t.name}-copy`, `  from: ${t.name}@${t.version}`)
  return lines.join('\n')
}

function Content({
  name,
  copy,
  kept,
  published,
  begun,
  parts,
}: {
  name: string
  copy: boolean
  kept: string
  published: string
  begun: string | null
  parts: Schemas['Template']['parts']
}) {
  const client = useQueryClient()
  const navigate = useNavigate()
  const me = useMe()
  const [source, setSource] = useState(begun ?? published)
  const [line, setLine] = useState(0)
  const changed = source !== published || copy
  // What was typed survives a reload; it is this browser's until it is published.
  useEffect(() => {
    if (source === published) forget(kept)
    else keep(kept, source)
  }, [kept, source, published])
  const file = `${name}.sail.yaml`
  const body = useMemo(
    () => ({ file, source, ...(parts ? { parts: parts as Schemas['TemplateText']['parts'] } : {}) }),
    [file, source, parts],
  )
  const [asked, setAsked] = useState(body)
  useEffect(() => {
    const t = setTimeout(() => setAsked(body), 150)
    return () => clearTimeout(t)
  }, [body])
  const check = useQuery({
    queryKey: ['text-check', asked],
    queryFn: ({ signal }) => unwrap(api.POST('/api/v1/texts/check', { body: asked, signal })),
    placeholderData: (before) => before,
    staleTime: Infinity,
    gcTime: 60_000,
  })
  const language = useQuery({
    queryKey: ['language'],
    queryFn: () => unwrap(api.GET('/api/v1/language')),
    staleTime: Infinity,
  })
  const c = check.data
  // What was said of an earlier text lets nothing be done with this one.
  const sound = c?.sound && asked === body && !check.isPlaceholderData
  const publish = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/templates', { body })),
    onSuccess: async (t) => {
      forget(kept)
      await client.invalidateQueries({ queryKey: ['templates'] })
      await client.invalidateQueries({ queryKey: ['template'] })
      void navigate(`/library/${t.name}`)
    },
  })
  const prepare = useMutation({
    mutationFn: () => unwrap(api.POST('/api/v1/drafts', { body: { stack: '', source, file, parts: body.parts } })),
    onSuccess: (d) => void navigate(`/prepare/${encodeURIComponent(c?.name ?? name)}?draft=${d.id}`),
  })
  const errors = c?.diagnostics.filter((d) => d.severity === 'error').length ?? 0
  return (
    <>
      <PageTitle
        trail={
          <>
            <Link to="/library">Library</Link> /{' '}
            {copy ? (
              <>
                copy of <Link to={`/library/${name}`}>{name}</Link>
              </>
            ) : (
              <Link to={`/library/${name}`}>{name}</Link>
            )}{' '}
            / text
          </>
        }
        side={
          <div className="flex flex-wrap items-center gap-2">
            <span className="text-small text-ink-2">{source !== published ? 'changed in this browser' : ''}</span>
            {source !== published && <Button onClick={() => setSource(published)}>Take the published text</Button>}
            <Button
              disabled={!c?.tidied}
              onClick={() => {
                if (c?.tidied) setSource(c.tidied)
              }}
            >
              {c && !c.tidied && errors === 0 ? 'Tidy already' : 'Tidy'}
            </Button>
            <Button disabled={!sound || prepare.isPending} onClick={() => prepare.mutate()}>
              Prepare with this text
            </Button>
            {me.data?.may?.includes('publish') && (
              <Button kind="main" disabled={!sound || !changed || publish.isPending} onClick={() => publish.mutate()}>
                Publish {c?.name} {c?.version}
              </Button>
            )}
          </div>
        }
        title={`Text of ${c?.name ?? name}`}
      >
        {c?.name ?? name} <span className="text-large font-normal text-ink-2">{c?.version}</span>
      </PageTitle>
      <div className="space-y-3">
        {publish.isError && <Trouble error={publish.error} />}
        {prepare.isError && <Trouble error={prepare.error} />}
        <div className="grid items-start gap-3 lg:grid-cols-[minmax(0,1.5fr)_minmax(0,1fr)]">
          <section aria-label="Text" className="min-w-0 overflow-hidden rounded-sheet border border-line bg-sheet">
            <Editor
              value={source}
              onChange={(text) => setSource(text)}
              diagnostics={c?.diagnostics ?? []}
              language={language.data}
              scope={c}
              line={line}
            />
          </section>
          <div className="space-y-3 lg:sticky lg:top-3">
            <Sheet
              title="What the check says"
              note={errors > 0 ? counted(errors, 'error') : c?.sound ? 'it could be published' : undefined}
              className="max-h-[260px]"
            >
              {check.isError && <Trouble error={check.error} />}
              {c && c.diagnostics.length === 0 && <p className="text-ink-2">Nothing speaks against it.</p>}
              <ul aria-live="polite" className="space-y-1.5">
                {c?.diagnostics.map((d) => (
                  <li key={`${d.line}:${d.column}${d.message}`} className="flex gap-2">
                    <FindingMark severity={d.severity} />
                    <span className="min-w-0 [overflow-wrap:anywhere]">
                      <button type="button" className="font-mono text-small underline" onClick={() => setLine(d.line)}>
                        line {d.line}
                      </button>{' '}
                      {d.message}
                      {d.remedy && <span className="block text-small text-ink-2">{d.remedy}</span>}
                    </span>
                  </li>
                ))}
              </ul>
            </Sheet>
            {c?.sound && <Rendered body={asked} name={c.name ?? name} />}
          </div>
        </div>
      </div>
    </>
  )
}

const none: never[] = []

/** What the text makes with its defaults, at the best place. */
function Rendered({ body, name }: { body: Schemas['TemplateText']; name: string }) {
  const where = useEverywhere(name)
  const place = where.data?.find((w) => w.best) ?? where.data?.find((w) => w.variants.length > 0)
  const accounts = useQuery({ queryKey: ['accounts'], queryFn: () => unwrap(api.GET('/api/v1/accounts')) })
  const account = place?.account ?? accounts.data?.[0]?.name
  const region = place?.best || place?.variants[0]?.region || accounts.data?.[0]?.regions[0]
  const check = useQuery({
    queryKey: ['text-rendered', body, account, region],
    queryFn: ({ signal }) =>
      unwrap(
        api.POST('/api/v1/checks', {
          body: { stack: '', source: body.source, file: body.file, parts: body.parts, account, region },
          signal,
        }),
      ),
    enabled: !!account && !!region,
    placeholderData: (before) => before,
    staleTime: Infinity,
    gcTime: 60_000,
    retry: false,
  })
  const a = check.data
  const { nodes, edges } = useOrder(a?.graph ?? none, a?.longest ?? none, (n) => ({ state: 'waiting', word: n.type }))
  if (!a) return null
  return (
    <>
      <Sheet
        title="What it makes"
        note={`with its defaults in ${a.region}: ${money(a.cost.hour, a.cost.currency)}, ${span(a.seconds * a.rate)}`}
        className="h-[230px]"
      >
        <Graph compact nodes={nodes} edges={edges} label="What it makes" />
      </Sheet>
      <Sheet title="Rendering" note={a.summary} className="max-h-[260px]">
        <ul className="space-y-1">
          {(a.graph ?? []).map((n) => (
            <li key={n.name}>
              <span className="font-semibold">{n.name}</span>{' '}
              <span className="text-small text-ink-2">
                {n.type}
                {n.after.length > 0 && `, after ${n.after.join(', ')}`}
              </span>
            </li>
          ))}
        </ul>
      </Sheet>
    </>
  )
}
