package engine

import "sync"

// proofs are the checks under way of one execution, by what they prove. It is safe for concurrent
// use; each proving is its step's alone.
type proofs struct {
	mu    sync.Mutex
	under map[string]*proving
}

func newProofs() *proofs { return &proofs{under: map[string]*proving{}} }

// of is the proving of a resource that has begun, or nil.
func (p *proofs) of(name string) *proving {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.under[name]
}

// begin begins a proving, in place of one that was begun before.
func (p *proofs) begin(name string, with *proving) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.under[name] = with
}

// goOn is the proving of a resource. Where none has begun, because the run was taken over while
// it settled, the rows of passes begin anew.
func (p *proofs) goOn(name string) *proving {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.under[name] == nil {
		p.under[name] = newProving()
	}
	return p.under[name]
}
