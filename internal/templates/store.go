package templates

import (
	"context"

	"undersail/internal/store"
)

// Store is what is kept of what this package is about, as far as it is needed here.
type Store interface {
	PutLibrary(ctx context.Context, l store.Library) error
	LibraryRead(ctx context.Context, name, revision, problem string) error
	Library(ctx context.Context, name string) (store.Library, error)
	Libraries(ctx context.Context) ([]store.Library, error)

	Policies(ctx context.Context) ([]store.Policy, error)
	PolicyVersions(ctx context.Context, name string) ([]store.Policy, error)
	AddPolicy(ctx context.Context, p store.Policy) (int, error)

	PublishTemplate(ctx context.Context, t store.Template) error
	Templates(ctx context.Context, name string) ([]store.Template, error)
	PutCases(ctx context.Context, c store.Cases) error
	Cases(ctx context.Context, template string) ([]store.Cases, error)
}
