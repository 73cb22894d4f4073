/** Of Node.js what tests of pure functions use. */
declare module 'node:test' {
  export function test(name: string, run: () => void): void
}
declare module 'node:assert/strict' {
  export function deepEqual(actual: unknown, expected: unknown, message?: string): void
  export function equal(actual: unknown, expected: unknown, message?: string): void
}
