package hub

import (
	"context"
	"errors"
	"slices"
	"time"

	"vinescale/core/folio"
	"vinescale/internal/store"
)

// Whose a folio is.
const (
	FolioShipped = "shipped" // everybody's; it comes with the program
	FolioShared  = "shared"  // the site's
	FolioOwn     = "own"     // whoever asks
)

// FolioLine is a folio as it is listed.
type FolioLine struct {
	Name      string     `json:"name" doc:"By which it is addressed."`
	Title     string     `json:"title"`
	About     string     `json:"about"`
	Whose     string     `json:"whose" enum:"shipped,shared,own"`
	Owner     string     `json:"owner" doc:"Who made it; empty for one that is shipped, or whose maker has no token."`
	CanChange bool       `json:"can_change" doc:"Whoever asks may change and remove it."`
	Plates    int        `json:"plates"`
	Version   int64      `json:"version" doc:"One more with each change."`
	ChangedAt *time.Time `json:"changed_at"`
	ChangedBy string     `json:"changed_by"`
}

// KeptFolio is a folio with what is known of it.
type KeptFolio struct {
	FolioLine
	Folio folio.Folio `json:"folio" doc:"As it is taken away and brought in."`
}

// mostFolios is how many folios one person may have.
const mostFolios = 300

func shippedFolio(n folio.Named) KeptFolio {
	return KeptFolio{FolioLine{Name: n.Name, Title: n.Title, About: n.About, Whose: FolioShipped,
		Plates: platesOf(&n.Folio)}, n.Folio}
}

func platesOf(f *folio.Folio) (n int) {
	for _, r := range f.Rows {
		n += len(r.Plates)
	}
	return n
}

func keptFolio(ctx context.Context, f *store.Folio) KeptFolio {
	k := KeptFolio{FolioLine{Name: f.Name, Title: f.Value.Title, About: f.Value.About, Whose: FolioOwn,
		CanChange: mayChange(ctx, f), Plates: platesOf(&f.Value), Version: f.Version, ChangedAt: &f.ChangedAt,
		ChangedBy: f.ChangedBy}, f.Value}
	if f.IsShared {
		k.Whose = FolioShared
	}
	if f.Owner != nil {
		k.Owner = *f.Owner
	}
	if k.Folio.Rows == nil {
		k.Folio.Rows = []folio.Row{}
	}
	return k
}

// mayChange tells who may change a folio: whoever made it, and of a shared one an administrator.
func mayChange(ctx context.Context, f *store.Folio) bool {
	who := tokenIn(ctx)
	return f.Owner != nil && *f.Owner == who.Name || f.IsShared && who.Role == Administrator
}

// Folios lists the folios that whoever asks may see: those that are shipped, then theirs and the site's by title.
func (h *Hub) Folios(ctx context.Context) ([]FolioLine, error) {
	kept, err := h.store.Folios(ctx, tokenIn(ctx).Name)
	if err != nil {
		return nil, err
	}
	var lines []FolioLine
	for _, n := range folio.Shipped() {
		lines = append(lines, shippedFolio(n).FolioLine)
	}
	for i := range kept {
		lines = append(lines, keptFolio(ctx, &kept[i]).FolioLine)
	}
	return lines, nil
}

// Folio finds one of them.
func (h *Hub) Folio(ctx context.Context, name string) (KeptFolio, error) {
	if i := slices.IndexFunc(folio.Shipped(), func(n folio.Named) bool { return n.Name == name }); i >= 0 {
		return shippedFolio(folio.Shipped()[i]), nil
	}
	f, err := h.store.Folio(ctx, tokenIn(ctx).Name, name)
	if errors.Is(err, store.ErrNotFound) {
		return KeptFolio{}, problem(NotFound, "there is no folio %q, or it is somebody else's own: list them", name)
	}
	if err != nil {
		return KeptFolio{}, err
	}
	return keptFolio(ctx, &f), nil
}

// AddFolio keeps a new folio of whoever asks, under a name that is made of its title.
func (h *Hub) AddFolio(ctx context.Context, f folio.Folio, isShared bool) (KeptFolio, error) {
	if err := checkFolio(ctx, &f, isShared); err != nil {
		return KeptFolio{}, err
	}
	who := tokenIn(ctx)
	name := folio.NameOf(f.Title)
	if _, is := folio.ShippedNamed(name); is {
		name += "-2"
	}
	kept, err := h.store.AddFolio(ctx, store.Folio{Name: name, Owner: &who.Name, IsShared: isShared,
		ChangedAt: h.options.Now(), ChangedBy: who.Name, Value: f}, mostFolios)
	if errors.Is(err, store.ErrExists) {
		return KeptFolio{}, problem(Invalid, "%s has %d folios already: remove some", who.Name, mostFolios)
	}
	if err != nil {
		return KeptFolio{}, err
	}
	return keptFolio(ctx, &kept), nil
}

func checkFolio(ctx context.Context, f *folio.Folio, isShared bool) error {
	if err := f.Check(); err != nil {
		return problem(Invalid, "%v", err)
	}
	if isShared && tokenIn(ctx).Role == Reader {
		return problem(
			Denied,
			"a reader's folios are their own: an operator or administrator may share one with the site",
		)
	}
	return nil
}

// ChangeFolio keeps a folio in place of the version that was seen; of any where that is 0.
func (h *Hub) ChangeFolio(
	ctx context.Context,
	name string,
	f folio.Folio,
	isShared bool,
	seen int64,
) (KeptFolio, error) {
	is, err := h.changeable(ctx, name)
	if err != nil {
		return KeptFolio{}, err
	}
	// One that is shared already may stay so, whatever its maker has become since.
	if err := checkFolio(ctx, &f, isShared && !is.IsShared); err != nil {
		return KeptFolio{}, err
	}
	if is.Owner == nil && !isShared {
		return KeptFolio{}, problem(
			Invalid,
			"nobody's own is the folio %q any more: it stays shared, or is removed",
			name,
		)
	}
	is.Value, is.IsShared, is.ChangedAt, is.ChangedBy = f, isShared, h.options.Now(), tokenIn(ctx).Name
	kept, err := h.store.ChangeFolio(ctx, is, seen)
	switch {
	case errors.Is(err, store.ErrExists):
		return KeptFolio{}, problem(
			Conflict,
			"the folio %q was changed meanwhile by somebody else: look at it again",
			name,
		)
	case errors.Is(err, store.ErrNotFound):
		return KeptFolio{}, problem(NotFound, "the folio %q was removed meanwhile", name)
	case err != nil:
		return KeptFolio{}, err
	}
	return keptFolio(ctx, &kept), nil
}

// RemoveFolio forgets a folio.
func (h *Hub) RemoveFolio(ctx context.Context, name string) error {
	if _, err := h.changeable(ctx, name); err != nil {
		return err
	}
	err := h.store.RemoveFolio(ctx, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil // somebody else did it meanwhile
	}
	return err
}

// changeable finds a folio that whoever asks may change.
func (h *Hub) changeable(ctx context.Context, name string) (store.Folio, error) {
	if _, is := folio.ShippedNamed(name); is {
		return store.Folio{}, problem(
			Denied,
			"the folio %q comes with the program: copy it, and change the copy",
			name,
		)
	}
	f, err := h.store.Folio(ctx, tokenIn(ctx).Name, name)
	switch {
	case errors.Is(err, store.ErrNotFound):
		return f, problem(NotFound, "there is no folio %q, or it is somebody else's own: list them", name)
	case err == nil && !mayChange(ctx, &f):
		return f, problem(
			Denied,
			"the folio %q is for its maker or an administrator to change: copy it, and change the copy",
			name,
		)
	}
	return f, err
}
