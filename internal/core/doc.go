// Package core groups the pure packages: computation without I/O, clock or
// randomness. It holds no code itself.
package core
