import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useMemo, useRef, useState } from 'react'
import { Link, Navigate, useNavigate, useParams, useSearchParams } from 'react-router'
import { recall } from '../api/browser'
import { api, unwrap, Refusal } from '../api/client'
import { useMe } from '../api/queries'
import { FindingMark } from '../parts/findings'
import { useNow } from '../parts/now'
import { StateMark } from '../parts/state'
import { Button, Empty, Fact, Facts, Loading, PageTitle, Sheet, Trouble } from '../parts/ui'
import { accountSpan, ago, counted, money } from '../parts/words'
import { Answers, findingsOf } from '../prepare/answers'
import { begin, useKeeping, type Answer, type FormPage, type Keeping } from '../prepare/draft'
import { countOf, type Recalled } from '../prepare/keeping'
import { command, download, inputsFile, inputsName } from '../prepare/export'
import { Field, fieldId, taken } from '../prepare/field'
import type { Schema } from '../prepare/controls'
import { PlacePage } from '../prepare/place'
import { keptWords, useSilence, Waiting } from '../prepare/waiting'
import { PresetsPage } from '../prepare/presets'

/** Prepare: choose place and inputs for a template, or change those of a stack. */
export default function PreparePage() {
  const { template = '' } = useParams()
  const [search] = useSearchParams()
  const me = useMe()
  const id = search.get('draft')
  const stack = search.get('stack') ?? ''
  const version = search.get('version') ?? ''
  const begun = useQuery({
    queryKey: ['begin', template, stack, version],
    enabled: !id && !!me.data,
    queryFn: () => begin(template, stack, version, me.data!.name),
    staleTime: 0,
    gcTime: 0,
    retry: false,
  })
  if (id) return <Kept key={id} id={id} template={template} />
  if (begun.isLoadingError) return <Trouble page error={begun.error} retry={() => void begun.refetch()} />
  if (!begun.data)
    return (
      <Sheet>
        <Loading />
      </Sheet>
    )
  return (
    <Navigate
      replace
      to={`/prepare/${encodeURIComponent(template)}?draft=${begun.data.id}${search.get('page') ? `&page=${encodeURIComponent(search.get('page')!)}` : ''}`}
    />
  )
}

function Kept({ id, template }: { id: string; template: string }) {
  const { loading, error, retry, keeping } = useKeeping(id)
  if (loading)
    return (
      <Sheet>
        <Loading />
      </Sheet>
    )
  if (!keeping)
    return error instanceof Refusal && error.problem.status === 404 ? (
      <Gone id={id} template={template} />
    ) : (
      <Trouble page error={error} retry={retry} />
    )
  return <Form k={keeping} template={template} />
}

/** A draft that is no longer there, with what this browser has of it that was never kept. */
function Gone({ id, template }: { id: string; template: string }) {
  const typed = recall(`draft ${id}`)
  const change = typed ? (JSON.parse(typed) as Recalled).change : {}
  return (
    <>
      <Empty heading title="This draft is no longer there">
        It was proposed or removed.{' '}
        <Link className="text-accent underline" to={`/prepare/${encodeURIComponent(template)}`}>
          Begin a new one
        </Link>
        , or look at the{' '}
        <Link className="text-accent underline" to="/proposals">
          proposals
        </Link>
        .
      </Empty>
      {countOf(change) > 0 && (
        <Sheet title="What you typed last, and nobody has">
          <pre className="font-mono text-small whitespace-pre-wrap">{JSON.stringify(change, null, 2)}</pre>
        </Sheet>
      )}
    </>
  )
}

const PLACE = 'Place',
  PRESETS = 'Presets',
  SUMMARY = 'Summary'

function Form({ k, template }: { k: Keeping; template: string }) {
  const [search, setSearch] = useSearchParams()
  const navigate = useNavigate()
  const client = useQueryClient()
  const answer = k.answer
  const name = k.typed.stack ?? k.draft.body.stack
  const change = answer?.new === false
  // A template may name a page of its own like one of these: then they are one.
  const titles = [
    ...new Set([
      PLACE,
      ...(answer && answer.presets.length > 0 ? [PRESETS] : []),
      ...(answer?.pages.map((p) => p.title) ?? []),
      SUMMARY,
    ]),
  ]
  const asked = search.get('page')
  const page = asked && titles.includes(asked) ? asked : PLACE
  const go = (to: string) =>
    setSearch((s) => {
      s.set('page', to)
      return s
    })
  const head = useRef<HTMLHeadingElement>(null)
  // The fields of the next page are before whoever pressed Next, and not behind.
  const step = (to: string) => {
    go(to)
    requestAnimationFrame(() => {
      head.current?.focus()
      head.current?.closest('div')?.scrollIntoView({ block: 'nearest' })
    })
  }
  const [lead, setLead] = useState<string | null>(null)
  useEffect(() => {
    document.title = `Prepare ${name || template} · Under Sail`
  }, [name, template])
  // A finding leads to its field, on whichever page that is.
  useEffect(() => {
    if (!lead) return
    const at =
      document.getElementById(fieldId(lead)) ??
      document.querySelector<HTMLElement>(`[data-field="${lead}"] input, [data-field="${lead}"] [tabindex="0"]`)
    if (at) {
      at.scrollIntoView({ block: 'center' })
      at.focus({ preventScroll: true })
      setLead(null)
    }
  }, [lead, page, answer])
  const fields = useMemo(
    () => new Map(answer?.pages.flatMap((p) => p.fields.map((f) => [f.name, { field: f, page: p.title }] as const))),
    [answer],
  )
  const leadTo = (input: string) => {
    const at = fields.get(input)
    if (at) {
      go(at.page)
      setLead(input)
    }
  }
  const take = (input: string, value: string) => {
    const at = fields.get(input)
    if (at) {
      k.change({ inputs: { [input]: taken(value, at.field.schema as Schema) } })
      leadTo(input)
    }
  }
  const keepAt = (input: string, value: unknown) => {
    k.change({ inputs: { [input]: value } })
    leadTo(input)
  }
  const propose = useMutation({
    mutationFn: () =>
      unwrap(
        api.POST('/api/v1/drafts/{id}/propose', {
          params: { path: { id: k.draft.id }, header: { 'If-Match': `"${k.draft.revision}"` } },
        }),
      ),
    onSuccess: async (p) => {
      if (p.id) {
        await client.invalidateQueries({ queryKey: ['proposals'] })
        void navigate(`/proposals/${p.id}`)
      }
    },
  })
  const blocked = !answer || answer.errors > 0 || !name || !k.kept || !!k.draft.problem
  const at = titles.indexOf(page)
  const current = answer?.pages.find((p) => p.title === page)
  const nothing = propose.data && !propose.data.id
  return (
    <>
      <PageTitle
        trail={
          change ? (
            <>
              <Link to="/stacks">Stacks</Link> / <Link to={`/stacks/${name}`}>{name}</Link> / change
            </>
          ) : (
            <>
              <Link to="/library">Library</Link> /{' '}
              <Link to={`/library/${template}`}>{answer?.template.replace('@', ' ') ?? template}</Link>
            </>
          )
        }
        side={
          <Side
            k={k}
            blocked={blocked}
            busy={propose.isPending}
            onPropose={() => propose.mutate()}
            why={
              !name
                ? 'name the stack first'
                : answer && answer.errors > 0
                  ? `${counted(answer.errors, 'error')} first`
                  : undefined
            }
          />
        }
      >
        {change ? 'Change' : 'Prepare'} {name || answer?.title || template}
      </PageTitle>
      <div className="space-y-3">
        <Waiting k={k} template={template} />
        {propose.isError && <Trouble error={propose.error} />}
        {nothing && (
          <p role="status" className="rounded-sheet border border-line bg-sheet px-3.5 py-2">
            There is nothing to change: the stack is already so.
          </p>
        )}
        {answer ? (
          <Strip answer={answer} />
        ) : (
          k.draft.problem &&
          page !== PLACE && (
            <Trouble error={new Refusal({ type: '', status: 422, title: k.draft.problem, remedy: k.draft.remedy })} />
          )
        )}
        <div
          className="grid grid-cols-[minmax(0,1fr)] items-start gap-3 lg:grid-cols-[148px_minmax(0,1fr)_292px] data-[whole=true]:lg:grid-cols-[148px_minmax(0,1fr)]"
          data-whole={page === SUMMARY}
        >
          <Rail titles={titles} page={page} k={k} answer={answer} named={!!name} onGo={go} />
          <div className="min-w-0 rounded-sheet border border-line bg-sheet">
            <h2 ref={head} tabIndex={-1} className="sr-only">
              {page}
            </h2>
            {page === PLACE && (
              <PlacePage k={k} taken={answer?.new === false && !!(k.draft.body.template || k.draft.body.source)} />
            )}
            {page === PRESETS && answer && <PresetsPage k={k} answer={answer} />}
            {page === SUMMARY && answer && <Answers answer={answer} onLead={leadTo} onTake={take} onKeep={keepAt} />}
            {current &&
              answer &&
              current.fields
                .filter((f) => !f.hidden)
                .map((f) => (
                  <Field
                    key={f.name}
                    field={f}
                    k={k}
                    currency={answer.cost.currency}
                    context={{ account: answer.account, region: answer.region, pictures: answer.networks }}
                  />
                ))}
            {current && current.fields.every((f) => f.hidden) && (
              <p className="px-4 py-3 text-ink-2">Nothing is asked here with the other inputs as they are.</p>
            )}
            <div className="flex justify-between border-t border-line px-4 py-2.5 print:hidden">
              {at > 0 ? <Button onClick={() => step(titles[at - 1]!)}>Back: {titles[at - 1]}</Button> : <span />}
              {at < titles.length - 1 ? (
                <Button onClick={() => step(titles[at + 1]!)}>Next: {titles[at + 1]}</Button>
              ) : (
                <Button onClick={() => window.print()}>Print it</Button>
              )}
            </div>
          </div>
          {answer && page !== SUMMARY && (
            <aside
              aria-label="What it would be"
              className="rounded-sheet border border-line bg-sheet lg:sticky lg:top-3 lg:max-h-[calc(100vh-24px)] lg:overflow-auto"
              tabIndex={0}
            >
              <Answers answer={answer} onLead={leadTo} onTake={take} onKeep={keepAt} onWhole={() => go(SUMMARY)} />
            </aside>
          )}
        </div>
      </div>
    </>
  )
}

/** Kept when, for whom, and the ways out: a link, a file, a command, a proposal. */
function Side({
  k,
  blocked,
  busy,
  onPropose,
  why,
}: {
  k: Keeping
  blocked: boolean
  busy: boolean
  onPropose: () => void
  why?: string
}) {
  const now = useNow(5000)
  const silent = useSilence(k)
  const navigate = useNavigate()
  const [copied, setCopied] = useState('')
  const copy = (what: string, text: string) =>
    void navigator.clipboard?.writeText(text).then(() => {
      setCopied(what)
      setTimeout(() => setCopied(''), 1500)
    })
  const drop = useMutation({
    mutationFn: () => unwrap(api.DELETE('/api/v1/drafts/{id}', { params: { path: { id: k.draft.id } } })),
    onSuccess: () => void navigate('/prepare'),
  })
  return (
    <div className="flex flex-wrap items-center justify-end gap-2 print:hidden">
      <span className="text-small text-ink-2" aria-live="polite">
        {keptWords(k, ago(k.draft.changed_at, now), silent)} ·{' '}
        <button type="button" className="underline" onClick={() => copy('link', window.location.href)}>
          {copied === 'link' ? 'copied' : 'link for a colleague'}
        </button>{' '}
        ·{' '}
        <button type="button" className="underline" onClick={() => drop.mutate()}>
          forget it
        </button>
      </span>
      <Button onClick={() => download(inputsName(k.draft), inputsFile(k.draft))}>Inputs file</Button>
      <Button onClick={() => copy('command', command(k.draft))}>
        {copied === 'command' ? 'Copied' : 'Copy as command'}
      </Button>
      <Button kind="main" disabled={blocked || busy} title={why} onClick={onPropose}>
        {busy ? 'Proposing…' : 'Propose'}
      </Button>
    </div>
  )
}

/** How many things, what they cost, how long and what decides it, what speaks against it, where and as whom. */
function Strip({ answer }: { answer: Answer }) {
  const findings = findingsOf(answer)
  const count = (s: string) => findings.filter((f) => f.severity === s && f.code !== 'missing-input').length
  const missing = findings.filter((f) => f.code === 'missing-input').length
  const rest = [
    missing > 0 && `${missing} to choose`,
    count('warning') > 0 && counted(count('warning'), 'warning'),
    count('note') > 0 && counted(count('note'), 'note'),
  ]
    .filter(Boolean)
    .join(', ')
  return (
    <Facts>
      <Fact
        value={answer.new ? counted(answer.totals.resources, 'resource') : answer.summary}
        label={`${counted(answer.totals.machines, 'machine')}, ${counted(answer.totals.vcpus, 'core')}`}
      />
      <Fact
        value={money(answer.cost.hour, answer.cost.currency)}
        label={`about ${answer.cost.month.toFixed(0)} ${answer.cost.currency} a month${answer.cost_now.hour > 0 ? `, now ${answer.cost_now.month.toFixed(0)}` : ''}`}
      />
      <Fact
        value={accountSpan(answer.seconds, answer.rate)}
        label={
          answer.longest.length > 0 ? (
            <>
              expected; <span className="text-path">{answer.longest.at(-1)}</span> decides
            </>
          ) : (
            'expected'
          )
        }
      />
      <Fact
        value={
          count('error') > 0 ? counted(count('error'), 'error') : missing > 0 ? `${missing} to choose` : 'no errors'
        }
        tone={count('error') > 0 ? 'var(--bad)' : undefined}
        label={
          (count('error') > 0 ? rest : rest.replace(`${missing} to choose`, '').replace(/^, /, '')) ||
          'nothing else to say'
        }
      />
      <Fact value={answer.account} label={answer.region} />
    </Facts>
  )
}

/** The pages with their marks: to do, complete, warnings, errors. */
function Rail({
  titles,
  page,
  k,
  answer,
  named,
  onGo,
}: {
  titles: string[]
  page: string
  k: Keeping
  answer: Answer | undefined
  named: boolean
  onGo: (page: string) => void
}) {
  const state = (title: string): 'error' | 'warning' | 'todo' | 'complete' | 'none' => {
    const p = answer?.pages.find((x: FormPage) => x.title === title)
    if (title === PLACE && (k.draft.problem || !named || !answer)) return k.draft.problem ? 'error' : 'todo'
    if (!p) return title === PLACE ? 'complete' : 'none'
    return p.errors > 0 ? 'error' : p.missing > 0 ? 'todo' : p.warnings > 0 ? 'warning' : 'complete'
  }
  const words = { error: 'has errors', warning: 'has warnings', todo: 'to do', complete: 'complete', none: '' }
  return (
    <nav aria-label="Pages of the template" className="print:hidden">
      <ol className="space-y-0.5 max-lg:flex max-lg:flex-wrap max-lg:gap-1 max-lg:space-y-0">
        {titles.map((t) => {
          const s = state(t)
          return (
            <li key={t}>
              <button
                type="button"
                data-page={t}
                aria-current={t === page ? 'step' : undefined}
                onClick={() => onGo(t)}
                className={`flex w-full items-center gap-2 rounded-[6px] border px-2.5 py-1.5 text-left ${t === page ? 'border-line bg-sheet font-semibold' : 'border-transparent text-ink-2 hover:text-ink'}`}
              >
                {s === 'error' || s === 'warning' ? (
                  <FindingMark severity={s} size={14} />
                ) : s === 'none' ? (
                  <span className="w-[14px]" />
                ) : (
                  <StateMark state={s === 'complete' ? 'healthy' : 'waiting'} />
                )}
                <span className="min-w-0">{t}</span>
                {words[s] && <span className="sr-only">, {words[s]}</span>}
              </button>
            </li>
          )
        })}
      </ol>
    </nav>
  )
}
