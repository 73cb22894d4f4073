import { Component, Suspense, lazy, useEffect, useState, type ComponentType, type ReactNode } from 'react'
import { Link, useLocation } from 'react-router'
import { answers } from '../api/build'
import { Button, Loading } from './ui'

/** A script that could not be read, and not one that broke when it ran. */
class Unread extends Error {}

/** A page whose script is read when it is first opened. */
export function page(load: () => Promise<{ default: ComponentType }>): ComponentType {
  const Page = lazy(() =>
    load().catch((e: unknown) => {
      throw new Unread(String(e))
    }),
  )
  return function Paged() {
    const { pathname } = useLocation()
    return (
      <Boundary key={pathname}>
        <Suspense fallback={<Loading />}>
          <Page />
          <Arrived />
        </Suspense>
      </Boundary>
    )
  }
}

/** Stands beside a page, and so is there only once the page is. */
function Arrived() {
  useEffect(() => sessionStorage.removeItem(tried), [])
  return null
}

/** Something on a page whose script is read when it is first drawn; without it the page does as well. */
export function piece<P extends object>(
  load: () => Promise<{ default: ComponentType<P> }>,
  what: string,
  rows = 3,
): ComponentType<P> {
  const Piece = lazy(load) as unknown as ComponentType<P>
  return function Pieced(props: P) {
    return (
      <Boundary small={what}>
        <Suspense fallback={<Loading rows={rows} />}>
          <Piece {...props} />
        </Suspense>
      </Boundary>
    )
  }
}

/** Keeps what breaks on a page from taking the rest with it, and says what can be done. */
export class Boundary extends Component<{ children: ReactNode; small?: string }, { broken: unknown }> {
  override state = { broken: null as unknown }
  static getDerivedStateFromError(broken: unknown) {
    return { broken }
  }
  override render() {
    const { broken } = this.state
    if (broken === null) return this.props.children
    if (this.props.small)
      return (
        <p className="text-ink-2">
          {this.props.small} cannot be drawn: its script could not be read.{' '}
          <button type="button" className="underline" onClick={() => window.location.reload()}>
            Load the page anew
          </button>
        </p>
      )
    if (broken instanceof Unread) return <Missing />
    return (
      <div role="alert" className="rounded-sheet border border-bad bg-bad-soft p-3.5">
        <h1 className="font-semibold text-bad">This page broke</h1>
        <p className="mt-0.5">
          What you typed into a draft or a template is kept. It said:{' '}
          <code className="font-mono text-small">{String(broken)}</code>
        </p>
        <div className="mt-2 flex gap-2">
          <Button onClick={() => this.setState({ broken: null })}>Draw it again</Button>
          <Link className="self-center font-semibold text-accent" to="/stacks">
            To the stacks
          </Link>
        </div>
      </div>
    )
  }
}

const tried = 'page loaded anew for its script'

/**
 * The script of a page is missing: the service is away for a moment, or was renewed and has others by now.
 * The page is loaded anew by itself as soon as the service answers, once; then it is left to the person.
 */
function Missing() {
  const [waits, setWaits] = useState(() => sessionStorage.getItem(tried) !== window.location.pathname)
  useEffect(() => {
    if (!waits) return
    let timer: ReturnType<typeof setTimeout>
    let gone = false
    const look = async () => {
      if (await answers()) {
        if (gone) return
        sessionStorage.setItem(tried, window.location.pathname)
        return window.location.reload()
      }
      if (!gone) timer = setTimeout(() => void look(), 1000)
    }
    void look()
    return () => {
      gone = true
      clearTimeout(timer)
    }
  }, [waits])
  return (
    <div role="alert" className="rounded-sheet border border-settling bg-settling-soft p-3.5">
      <h1 className="font-semibold">The script of this page could not be read</h1>
      <p className="mt-0.5">
        {waits
          ? 'The page is loaded anew as soon as the service answers. Nothing that was typed is lost.'
          : 'It was loaded anew once, and the script is still missing. Ask whoever runs the service, or try again.'}
      </p>
      {!waits && (
        <Button
          className="mt-2"
          onClick={() => {
            sessionStorage.removeItem(tried)
            setWaits(true)
          }}
        >
          Try again
        </Button>
      )}
    </div>
  )
}
