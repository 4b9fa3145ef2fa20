package api

import (
	"github.com/danielgtaylor/huma/v2"
)

// What a request may hold where nothing else is said: no text and no list in it
// is without an upper length.
const (
	mostText  = 2000
	mostItems = 1000
)

// bound gives every text and list of every request an upper length.
func bound(api huma.API) {
	doc := api.OpenAPI()
	b := bounder{doc.Components.Schemas, map[*huma.Schema]bool{}}
	for _, path := range doc.Paths {
		for _, op := range []*huma.Operation{path.Get, path.Put, path.Post, path.Delete, path.Patch} {
			if op == nil {
				continue
			}
			for _, p := range op.Parameters {
				b.bound(p.Schema)
			}
			if op.RequestBody != nil {
				for _, media := range op.RequestBody.Content {
					b.bound(media.Schema)
				}
			}
		}
	}
}

type bounder struct {
	registry huma.Registry
	seen     map[*huma.Schema]bool
}

func (b bounder) bound(s *huma.Schema) {
	if s == nil {
		return
	}
	if s.Ref != "" {
		s = b.registry.SchemaFromRef(s.Ref)
	}
	if s == nil || b.seen[s] {
		return
	}
	b.seen[s] = true
	switch s.Type {
	case huma.TypeString:
		if s.MaxLength == nil && len(s.Enum) == 0 {
			s.MaxLength = most(mostText)
		}
	case huma.TypeArray:
		if s.MaxItems == nil {
			s.MaxItems = most(mostItems)
		}
		b.bound(s.Items)
	case huma.TypeObject:
		for _, p := range s.Properties {
			b.bound(p)
		}
		if values, ok := s.AdditionalProperties.(*huma.Schema); ok {
			if s.MaxProperties == nil {
				s.MaxProperties = most(mostItems)
			}
			b.bound(values)
		}
	}
	s.PrecomputeMessages()
}

func most(n int) *int { return &n }
