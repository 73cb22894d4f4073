/**
 * What this browser keeps of a person: what was typed and the service has not taken yet. It is kept under
 * the person's name, shown to nobody else, and gone with signing out.
 */
const mark = (person: string) => `of ${person}: `

let person = ''

/** Tells whose things are kept from now on. */
export function keepFor(name: string) {
  person = name
}

export const recall = (key: string): string | null => (person ? localStorage.getItem(mark(person) + key) : null)

/** Keeps a text; a browser whose store is full or closed keeps it only as long as the page lives. */
export function keep(key: string, text: string) {
  if (!person) return
  try {
    localStorage.setItem(mark(person) + key, text)
  } catch {
    /* the page itself still has it */
  }
}

export function forget(key: string) {
  if (person) localStorage.removeItem(mark(person) + key)
}

/** What is kept of whoever is here, by its key. */
export const keptKeys = (): string[] =>
  person
    ? Object.keys(localStorage)
        .filter((k) => k.startsWith(mark(person)))
        .map((k) => k.slice(mark(person).length))
    : []

/** Leaves nothing of anybody: what is kept of others as well, since a browser that is left is left to anybody. */
export function forgetPeople() {
  for (const k of Object.keys(localStorage))
    if (k.startsWith('of ') || k.startsWith('text ')) localStorage.removeItem(k)
  sessionStorage.clear()
  person = '' // what is still on its way is not kept any more
}
