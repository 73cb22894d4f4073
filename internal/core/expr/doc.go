// Package expr is the expression environment of templates: the Common
// Expression Language with the types of the template in scope, our functions,
// and values that are still pending.
//
// Checking and evaluating are separate stages: an Env checks text into an
// immutable Program, a Program is evaluated any number of times, also
// concurrently. A leaf that is not known yet is a [resource.Unresolved]; it
// passes through operators, calls, lists and comprehensions and comes out as an
// Unresolved that names everything the result waits for. Secrets travel the
// same way, so text made with a secret is itself secret.
//
// The package never reads files, clocks or random numbers.
package expr
