import {
  useEffect,
  useLayoutEffect,
  useRef,
  useState,
  type ButtonHTMLAttributes,
  type ReactNode,
  type RefObject,
} from 'react'
import { AlertDialog } from 'radix-ui'
import { Link, useLocation, useNavigationType } from 'react-router'
import { Refusal } from '../api/client'
import { Findings } from './findings'

export function Button({
  kind = 'plain',
  small = false,
  className = '',
  ...rest
}: ButtonHTMLAttributes<HTMLButtonElement> & { kind?: 'plain' | 'main' | 'danger'; small?: boolean }) {
  const looks = {
    plain: 'border-line bg-sheet text-ink hover:border-ink-2',
    main: 'border-accent bg-accent text-on-accent hover:opacity-90',
    danger: 'border-bad bg-sheet text-bad hover:bg-bad-soft',
  }
  return (
    <button
      type="button"
      className={`rounded-[6px] border font-semibold transition-colors ${small ? 'px-2 py-0.5 text-small' : 'px-3.5 py-1.5'} disabled:opacity-50 ${looks[kind]} ${className}`}
      {...rest}
    />
  )
}

/** One of several things of which one is looked at. */
export function Choice({ chosen, onChoose, children }: { chosen: boolean; onChoose: () => void; children: ReactNode }) {
  return (
    <button
      type="button"
      aria-pressed={chosen}
      onClick={onChoose}
      className={`rounded-[6px] border px-2.5 py-1 text-small ${chosen ? 'border-accent bg-accent-soft font-semibold text-accent' : 'border-line bg-sheet text-ink-2 hover:text-ink'}`}
    >
      {children}
    </button>
  )
}

/** A link that looks like the button of what it leads to. */
export function LinkButton({
  to,
  kind = 'plain',
  small = false,
  children,
}: {
  to: string
  kind?: 'plain' | 'main'
  small?: boolean
  children: ReactNode
}) {
  return (
    <Link
      to={to}
      className={`inline-block rounded-[6px] border font-semibold no-underline transition-colors ${small ? 'px-2 py-0.5 text-small' : 'px-3.5 py-1.5'} ${kind === 'main' ? 'border-accent bg-accent text-on-accent hover:opacity-90' : 'border-line bg-sheet hover:border-ink-2'}`}
    >
      {children}
    </Link>
  )
}

/** Whether what is in a box is larger than the box, so that it scrolls. */
function useScrolls(): [RefObject<HTMLDivElement | null>, boolean] {
  const box = useRef<HTMLDivElement>(null)
  const [scrolls, setScrolls] = useState(false)
  useLayoutEffect(() => {
    const at = box.current
    if (!at) return
    const look = () => setScrolls(at.scrollWidth > at.clientWidth + 1 || at.scrollHeight > at.clientHeight + 1)
    look()
    const sizes = new ResizeObserver(look)
    sizes.observe(at)
    for (const child of at.children) sizes.observe(child)
    return () => sizes.disconnect()
  })
  return [box, scrolls]
}

/** A sheet of paper. Where it scrolls it is reached by the keyboard, under its label. */
export function Sheet({
  title,
  note,
  children,
  className = '',
  pad = true,
  label,
}: {
  title?: ReactNode
  note?: ReactNode
  children: ReactNode
  className?: string
  pad?: boolean
  label?: string
}) {
  const [box, scrolls] = useScrolls()
  return (
    <section className={`flex min-h-0 min-w-0 flex-col rounded-sheet border border-line bg-sheet ${className}`}>
      {title && (
        <header className="flex flex-none items-baseline justify-between gap-4 border-b border-line px-3.5 py-2">
          <h2 className="flex-none text-small font-semibold text-ink-2">{title}</h2>
          {note && <span className="truncate text-small text-ink-2">{note}</span>}
        </header>
      )}
      <div
        ref={box}
        className={`min-h-0 flex-1 overflow-auto ${pad ? 'p-3.5' : ''}`}
        {...(scrolls
          ? { tabIndex: 0, role: 'group', 'aria-label': label ?? (typeof title === 'string' ? title : 'details') }
          : {})}
      >
        {children}
      </div>
    </section>
  )
}

/** A row of facts: the number with a meaning first, what it says below it. */
export function Facts({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div
      className={`flex flex-wrap items-stretch rounded-sheet border border-line bg-sheet ${action ? '' : '[&>*]:grow [&>*:last-child]:border-r-0'}`}
    >
      {children}
      {action && <div className="ml-auto flex items-center gap-2 px-4 py-2.5">{action}</div>}
    </div>
  )
}

export function Fact({ value, label, tone }: { value: ReactNode; label: ReactNode; tone?: string }) {
  return (
    <div className="border-r border-line px-4 py-2.5 max-sm:basis-1/2">
      <div className="text-large font-semibold" style={tone ? { color: tone } : undefined}>
        {value}
      </div>
      <div className="text-small text-ink-2">{label}</div>
    </div>
  )
}

/**
 * The title of a page, which is the browser's as well. Whoever comes to the page from another one
 * begins at it: what had the focus there is gone.
 */
export function PageTitle({
  trail,
  children,
  side,
  title,
}: {
  trail?: ReactNode
  children: ReactNode
  side?: ReactNode
  title?: string
}) {
  const words = title ?? (typeof children === 'string' ? children : undefined)
  const head = useRef<HTMLHeadingElement>(null)
  const way = useNavigationType()
  const { pathname } = useLocation()
  useEffect(() => {
    if (words) document.title = `${words} · Under Sail`
  }, [words])
  useEffect(() => {
    const at = document.activeElement
    if (way !== 'POP' && (!at || at === document.body || at.id === 'content'))
      head.current?.focus({ preventScroll: true })
  }, [pathname, way])
  return (
    <div className="mb-3 flex flex-wrap items-end justify-between gap-3">
      <div>
        {trail && <div className="text-small text-ink-2">{trail}</div>}
        <h1 ref={head} tabIndex={-1} className="flex items-center gap-2.5 text-title font-bold outline-none">
          {children}
        </h1>
      </div>
      {side}
    </div>
  )
}

/** An empty page teaches the next step. */
export function Empty({
  title,
  children,
  command,
  heading = false,
}: {
  title: string
  children?: ReactNode
  command?: string
  heading?: boolean
}) {
  useEffect(() => {
    if (heading) document.title = `${title} · Under Sail`
  }, [heading, title])
  return (
    <div className="mx-auto max-w-xl px-6 py-14 text-center">
      {heading ? (
        <h1 className="text-large font-semibold">{title}</h1>
      ) : (
        <p className="text-large font-semibold">{title}</p>
      )}
      {children && <p className="mt-1 text-ink-2">{children}</p>}
      {command && <Command text={command} />}
    </div>
  )
}

export function Command({ text }: { text: string }) {
  const [copied, setCopied] = useState(false)
  return (
    <div className="mt-3 flex items-center gap-2 rounded-[6px] border border-line bg-paper px-3 py-1.5 text-left font-mono text-small">
      <code className="min-w-0 flex-1 overflow-x-auto whitespace-pre">{text}</code>
      <button
        type="button"
        className="font-sans font-semibold text-accent"
        onClick={() =>
          void navigator.clipboard?.writeText(text).then(() => {
            setCopied(true)
            setTimeout(() => setCopied(false), 1500)
          })
        }
      >
        {copied ? 'Copied' : 'Copy'}
      </button>
    </div>
  )
}

export function Loading({ rows = 4 }: { rows?: number }) {
  return (
    <div role="status" aria-label="Loading" className="space-y-2.5 p-4">
      {Array.from({ length: rows }, (_, i) => (
        <div key={i} className="h-4 rounded bg-line opacity-60" style={{ width: `${88 - i * 13}%` }} />
      ))}
    </div>
  )
}

/** What went wrong and what to do; findings in full. Where nothing else is on a page it is its title. */
export function Trouble({ error, retry, page = false }: { error: unknown; retry?: () => void; page?: boolean }) {
  const problem =
    error instanceof Refusal
      ? error.problem
      : {
          title: String(error),
          status: 0,
          remedy: undefined,
          instance: undefined,
          findings: undefined,
          diagnostics: undefined,
        }
  return (
    <div role="alert" className="rounded-sheet border border-bad bg-bad-soft p-3.5">
      {page ? (
        <h1 className="font-semibold text-bad">{problem.title}</h1>
      ) : (
        <p className="font-semibold text-bad">{problem.title}</p>
      )}
      {problem.remedy && <p className="mt-0.5">What to do: {problem.remedy}</p>}
      {problem.status === 500 && problem.instance && (
        <p className="mt-0.5 font-mono text-small break-all">
          trace {problem.instance.replace('urn:undersail:trace:', '')}
        </p>
      )}
      {problem.findings && <Findings list={problem.findings} />}
      {problem.diagnostics && (
        <ul className="mt-1 space-y-0.5">
          {problem.diagnostics.map((d) => (
            <li key={`${d.line}${d.message}`}>
              <span className="font-mono text-small">line {d.line}</span> {d.message}
            </li>
          ))}
        </ul>
      )}
      {retry && (
        <Button className="mt-2" onClick={retry}>
          Try again
        </Button>
      )}
    </div>
  )
}

/** Asks before something that cannot be taken back. */
export function Confirm({
  trigger,
  title,
  children,
  action,
  busy,
}: {
  trigger: ReactNode
  title: string
  children: ReactNode
  action: ReactNode
  busy?: boolean
}) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild disabled={busy}>
        {trigger}
      </AlertDialog.Trigger>
      <Question title={title} action={action}>
        {children}
      </Question>
    </AlertDialog.Root>
  )
}

/** The same where something else than a button of its own leads to it. */
export function Confirmed({
  open,
  title,
  children,
  action,
  onClose,
  stay,
}: {
  open: boolean
  title: string
  children: ReactNode
  action: ReactNode
  onClose: () => void
  stay?: string
}) {
  return (
    <AlertDialog.Root
      open={open}
      onOpenChange={(on) => {
        if (!on) onClose()
      }}
    >
      <Question title={title} action={action} stay={stay}>
        {children}
      </Question>
    </AlertDialog.Root>
  )
}

function Question({
  title,
  children,
  action,
  stay = 'Keep it',
}: {
  title: string
  children: ReactNode
  action: ReactNode
  stay?: string
}) {
  return (
    <AlertDialog.Portal>
      <AlertDialog.Overlay className="fixed inset-0 z-20 bg-black/40" />
      <AlertDialog.Content className="fixed top-1/2 left-1/2 z-20 w-[min(92vw,440px)] -translate-x-1/2 -translate-y-1/2 rounded-sheet border border-line bg-sheet p-5 text-ink">
        <AlertDialog.Title className="text-large font-semibold">{title}</AlertDialog.Title>
        <AlertDialog.Description asChild>
          <div className="mt-1.5 text-ink-2">{children}</div>
        </AlertDialog.Description>
        <div className="mt-4 flex justify-end gap-2">
          <AlertDialog.Cancel asChild>
            <Button>{stay}</Button>
          </AlertDialog.Cancel>
          <AlertDialog.Action asChild>{action}</AlertDialog.Action>
        </div>
      </AlertDialog.Content>
    </AlertDialog.Portal>
  )
}
