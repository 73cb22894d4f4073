import { useQuery } from '@tanstack/react-query'
import { api, unwrap, type Schemas } from '../api/client'
import { box } from '../parts/form'
import { Button } from '../parts/ui'

type Picture = Schemas['AddressPicture']

const words = { taken: 'taken', ours: 'of this stack', overlap: 'overlaps', free: 'free' }

/**
 * The range of a network drawn to scale: one hatch for what is taken, one tint for what is ours, an outline for an
 * overlap.
 */
export function AddressMap({ picture }: { picture: Picture }) {
  const ours = picture.pieces.filter((p) => p.kind === 'ours' || p.kind === 'overlap')
  return (
    <figure className="mt-2">
      <figcaption className="mb-1 text-small text-ink-2">
        {picture.range}, drawn to scale; {ours.length} of this stack
      </figcaption>
      <div className="relative h-[46px] overflow-hidden rounded-[5px] border border-line bg-paper" aria-hidden="true">
        {picture.pieces.map((p) => (
          <div
            key={p.kind + p.range + (p.name ?? '')}
            title={`${p.range} ${words[p.kind]} ${p.name ?? ''}`}
            className={`absolute top-0 h-full overflow-hidden px-1 pt-1 text-[11px] leading-[1.25] ${{ taken: 'hatched border-r border-sheet text-right', ours: 'border-r border-sheet bg-accent-soft text-accent', overlap: 'border-2 border-bad bg-bad-soft text-bad', free: 'border-r border-line text-ink-2' }[p.kind]}`}
            style={{
              left: `${p.from * 100}%`,
              width: `max(3px, ${p.share * 100}%)`,
              zIndex: p.kind === 'overlap' ? 2 : p.kind === 'ours' ? 1 : 0,
            }}
          >
            {p.share > 0.09 && (
              <span className={p.kind === 'taken' ? 'inline-block bg-sheet px-1' : undefined}>
                <span className="block truncate font-semibold">{p.name ?? (p.kind === 'free' ? 'free' : '')}</span>
                <span className="block truncate">{p.range}</span>
              </span>
            )}
          </div>
        ))}
      </div>
      <ul className="mt-1.5 flex flex-wrap gap-x-4 gap-y-0.5 text-small">
        {picture.pieces
          .filter((p) => p.kind !== 'free')
          .map((p) => (
            <li
              key={p.kind + p.range + (p.name ?? '')}
              className={p.kind === 'overlap' ? 'font-semibold text-bad' : 'text-ink-2'}
            >
              <span className="font-mono">{p.range}</span>{' '}
              {p.kind === 'ours'
                ? p.name
                : p.kind === 'overlap'
                  ? `${p.name} overlaps ${p.over}`
                  : `taken by ${p.name}`}
            </li>
          ))}
      </ul>
    </figure>
  )
}

/** One address range: typed, or one of those that are free. */
export function RangeInput({
  id,
  value,
  picture,
  describedBy,
  onChange,
}: {
  id: string
  value: string
  picture?: Picture
  describedBy?: string
  onChange: (value: string) => void
}) {
  return (
    <>
      <div className="flex flex-wrap items-center gap-2">
        <input
          id={id}
          value={value}
          onChange={(e) => onChange(e.target.value)}
          spellCheck={false}
          autoComplete="off"
          placeholder="10.20.0.0/22"
          aria-describedby={describedBy}
          className={`${box} w-44 font-mono`}
        />
        {picture && picture.next.length > 0 && <span className="text-small text-ink-2">free:</span>}
        {picture?.next
          .filter((r) => r !== value)
          .slice(0, 3)
          .map((r) => (
            <Button key={r} small onClick={() => onChange(r)} aria-label={`take ${r}, free`}>
              <span className="font-mono">{r}</span>
            </Button>
          ))}
      </div>
      {picture && picture.pieces.length > 0 && <AddressMap picture={picture} />}
    </>
  )
}

/** Where somebody may come from: one's own address, ranges of the account, the whole world only on purpose. */
export function SourceHelp({
  account,
  region,
  have,
  onAdd,
}: {
  account?: string
  region?: string
  have: string[]
  onAdd: (range: string) => void
}) {
  const seen = useQuery({
    queryKey: ['me', 'address'],
    queryFn: () => unwrap(api.GET('/api/v1/me/address')),
    staleTime: 60_000,
  })
  const map = useQuery({
    queryKey: ['addresses', account, region],
    enabled: !!account && !!region,
    staleTime: 30_000,
    queryFn: () =>
      unwrap(
        api.GET('/api/v1/accounts/{account}/addresses', {
          params: { path: { account: account! }, query: { region: region! } },
        }),
      ),
  })
  const mine = seen.data?.address && `${seen.data.address}/${seen.data.address.includes(':') ? 128 : 32}`
  const known = (map.data?.map.areas ?? []).filter((a) => a.kind === 'network' || a.kind === 'reserved').slice(0, 4)
  const offer = (range: string, word: string) =>
    !have.includes(range) && (
      <Button key={range} small onClick={() => onAdd(range)}>
        {word}: <span className="font-mono">{range}</span>
      </Button>
    )
  return (
    <div className="mt-1.5 flex flex-wrap gap-1.5">
      {mine && offer(mine, 'where I am now')}
      {known.map((a) => offer(a.range, a.name))}
    </div>
  )
}

/** Said plainly beside a source that lets everybody in. */
export const wholeWorld = (range: unknown) => range === '0.0.0.0/0' || range === '::/0'
