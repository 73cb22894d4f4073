import { useMemo, type ReactNode } from 'react'
import type { Finding } from '../api/client'
import { Interruptions } from '../parts/interruptions'
import { FindingMark, inputsOf } from '../parts/findings'
import { changeState } from '../parts/changes'
import Graph from '../parts/graph'
import { useOrder } from '../parts/order'
import { Markdown } from '../parts/markdown'
import { Button } from '../parts/ui'
import { accountSpan, money, inputText, valueText } from '../parts/words'
import { DiskLayout } from './disks'
import type { Answer } from './draft'

const none: never[] = []

/** Every finding of an answer once, errors first; what is only missing yet comes last. */
export function findingsOf(a: Answer): Finding[] {
  const seen = new Set<string>()
  const all = [...a.pages.flatMap((p) => p.fields.flatMap((f) => (f.hidden ? [] : f.findings))), ...a.findings]
  const rank = (f: Finding) => (f.code === 'missing-input' ? 3 : ['error', 'warning', 'note'].indexOf(f.severity))
  return all
    .filter((f) => {
      const key = f.code + f.place + f.message
      if (seen.has(key)) return false
      seen.add(key)
      return true
    })
    .toSorted((x, y) => rank(x) - rank(y))
}

/** What the draft would be, live: the same on the side and, alone, to be printed. */
export function Answers({
  answer,
  onLead,
  onTake,
  onKeep,
  onWhole,
}: {
  answer: Answer
  onLead: (input: string) => void
  onTake: (input: string, value: string) => void
  onKeep: (input: string, value: unknown) => void
  onWhole?: () => void
}) {
  const whole = !onWhole // beside the form there is another place that shows all of it
  const findings = useMemo(() => findingsOf(answer), [answer])
  const titles = useMemo(
    () => new Map(answer.pages.flatMap((p) => p.fields.map((f) => [f.name, f.title ?? f.name]))),
    [answer],
  )
  const missing = findings.filter((f) => f.code === 'missing-input')
  const others = findings.filter((f) => f.code !== 'missing-input')
  const { nodes, edges } = useOrder(answer.graph ?? none, answer.longest, (n) => ({
    state: changeState[n.change] ?? 'waiting',
    word: n.change || n.type,
  }))
  const waiting = (v: unknown): boolean =>
    Array.isArray(v) ? v.some(waiting) : typeof v === 'object' && v !== null && 'pending' in v
  const known = answer.outputs.filter((o) => !o.secret && !waiting(o.value))
  const later = answer.outputs.filter((o) => o.secret || waiting(o.value))
  const short = answer.compliance.filter((c) => whole || !c.met)
  return (
    <div className={whole ? 'grid gap-x-6 md:grid-cols-2 print:block' : undefined}>
      <Part title="Findings" note="live">
        <div aria-live="polite">
          {others.length === 0 && missing.length === 0 && <p className="text-ink-2">Nothing speaks against it.</p>}
          <ul className="space-y-2.5">
            {others.map((f) => {
              const inputs = inputsOf(f)
              const at = inputs[0]
              return (
                <li key={f.code + f.place + f.message} className="flex gap-2">
                  <FindingMark severity={f.severity} />
                  <span className="min-w-0 [overflow-wrap:anywhere]">
                    {inputs.length === 0 && <span className="font-mono text-small">{f.place}</span>}
                    {inputs.map((input, i) => (
                      <span key={input}>
                        {i > 0 && ', '}
                        <button
                          type="button"
                          className="text-left font-semibold hover:underline"
                          style={{
                            color:
                              f.severity === 'error'
                                ? 'var(--bad)'
                                : f.severity === 'warning'
                                  ? 'var(--settling)'
                                  : undefined,
                          }}
                          onClick={() => onLead(input)}
                        >
                          {titles.get(input) ?? input}
                        </button>
                      </span>
                    ))}
                    <span className="block text-small text-ink-2">
                      {f.remedy ? `${f.message.replace(/\.$/, '')}; ${f.remedy}` : f.message}
                    </span>
                    {f.take && at && (
                      <Button small className="mt-1" onClick={() => onTake(at, f.take!)}>
                        take {f.take}
                      </Button>
                    )}
                  </span>
                </li>
              )
            })}
            {missing.length > 0 && (
              <li className="text-small text-ink-2">
                Still to choose:{' '}
                {missing.map((f, i) => {
                  const at = inputsOf(f)[0] ?? f.place
                  return (
                    <span key={f.place}>
                      {i > 0 && ', '}
                      <button type="button" className="text-accent underline" onClick={() => onLead(at)}>
                        {titles.get(at) ?? at}
                      </button>
                    </span>
                  )
                })}
              </li>
            )}
          </ul>
        </div>
      </Part>
      {answer.consents.length > 0 && (
        <Part title="Will be asked on the proposal">
          <ul className="space-y-1">
            {answer.consents.map((c) => (
              <li key={c.name}>
                <span className="font-semibold">{c.name}</span> <span className="text-small text-ink-2">{c.about}</span>
                <Interruptions
                  list={answer.interruptions ?? none}
                  consent={c.name}
                  rate={answer.rate}
                  onKeep={onKeep}
                />
              </li>
            ))}
          </ul>
        </Part>
      )}
      {whole && (
        <Part title="Inputs" wide>
          <dl className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-x-3 gap-y-0.5">
            {answer.pages
              .flatMap((p) => p.fields)
              .filter((f) => !f.hidden)
              .map((f) => (
                <Row key={f.name} name={f.title ?? f.name}>
                  {f.origin === 'missing' ? 'to be chosen' : inputText(f)}
                  <span className="float-right font-sans text-ink-2">{f.origin === 'missing' ? '' : f.origin}</span>
                </Row>
              ))}
          </dl>
        </Part>
      )}
      <Part
        title="What it makes"
        note={
          onWhole ? (
            <button type="button" className="text-accent underline" onClick={onWhole}>
              see it whole
            </button>
          ) : (
            'left before right'
          )
        }
        wide={whole}
      >
        <div
          className={whole ? 'h-[260px] overflow-auto' : 'max-h-[220px] overflow-auto'}
          tabIndex={0}
          role="group"
          aria-label="What it makes"
        >
          {nodes.length > 0 ? (
            <Graph nodes={nodes} edges={edges} compact={!whole} label="Order of what it makes" />
          ) : (
            <p className="text-ink-2">Nothing to draw yet.</p>
          )}
        </div>
        {answer.longest.length > 0 && (
          <p className="mt-1.5 text-small text-ink-2">
            {accountSpan(answer.seconds, answer.rate)}; <span className="text-path">{answer.longest.join(' › ')}</span>{' '}
            decides
          </p>
        )}
      </Part>
      {answer.disks.length > 0 && (
        <Part title="Disks" note="to scale">
          <DiskLayout disks={answer.disks} usable={answer.usable} currency={answer.cost.currency} />
        </Part>
      )}
      <Part title="Known already">
        <dl className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-x-3 gap-y-0.5">
          {known.map((o) => (
            <Row key={o.name} name={o.name} title={o.about}>
              {valueText(o.value)}
            </Row>
          ))}
          {answer.quota.map((q) => (
            <Row key={q.region + q.name} name={q.name} title={`quota in ${q.region}`}>
              <span style={{ color: q.left < 0 ? 'var(--bad)' : undefined }}>
                {q.limit - q.left} of {q.limit} after it
              </span>
            </Row>
          ))}
          {short.map((c) => (
            <Row key={c.input + c.what} name={`${c.input}, ${c.what}`} title={c.by}>
              <span style={{ color: c.met ? undefined : 'var(--bad)' }}>
                {c.chosen} of {c.needed} needed
              </span>
            </Row>
          ))}
        </dl>
        {known.length + answer.quota.length === 0 && <p className="text-ink-2">Nothing yet.</p>}
        {later.length > 0 && (
          <p className="mt-1 text-small text-ink-2">Known once it is applied: {later.map((o) => o.name).join(', ')}</p>
        )}
      </Part>
      {(whole || answer.cost.lines.length > 0) && (
        <Part title="Cost" note={money(answer.cost.hour, answer.cost.currency)}>
          <details open={whole}>
            <summary className="cursor-pointer text-small text-ink-2">
              {answer.cost.lines.length} lines; about {answer.cost.month.toFixed(0)} {answer.cost.currency} a month
              {answer.cost_now.hour > 0 && `, now ${answer.cost_now.month.toFixed(0)}`}
            </summary>
            <dl className="mt-1 grid grid-cols-[minmax(0,3fr)_auto] gap-x-3">
              {answer.cost.lines.map((l) => (
                <div key={l.resource} className="contents">
                  <dt className="truncate text-small" title={l.about}>
                    {l.resource}
                  </dt>
                  <dd className="text-right text-small">{l.hour.toFixed(4)}</dd>
                </div>
              ))}
            </dl>
          </details>
        </Part>
      )}
      {answer.guide && (
        <Part title="How it will be used" note="… is not known yet">
          <div className="text-small">
            <Markdown text={answer.guide} />
          </div>
        </Part>
      )}
    </div>
  )
}

function Part({
  title,
  note,
  wide = false,
  children,
}: {
  title: string
  note?: ReactNode
  wide?: boolean
  children: ReactNode
}) {
  return (
    <section className={`min-w-0 border-b ${wide ? 'md:col-span-2' : ''} border-line px-3.5 py-2.5 last:border-b-0`}>
      <div className="mb-1.5 flex items-baseline justify-between gap-2">
        <h2 className="text-small font-semibold text-ink-2">{title}</h2>
        {note && <span className="text-small text-ink-2">{note}</span>}
      </div>
      {children}
    </section>
  )
}

function Row({ name, title, children }: { name: string; title?: string; children: ReactNode }) {
  return (
    <>
      <dt className="truncate text-small text-ink-2" title={title ?? name}>
        {name}
      </dt>
      <dd className="min-w-0 font-mono text-small [overflow-wrap:anywhere]">{children}</dd>
    </>
  )
}
