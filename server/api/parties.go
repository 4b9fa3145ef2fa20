package api

import (
	"kestite/core/catalogue"
	"kestite/core/definition"
)

// partyRoutes are those of who owns services, of who was promised something, and of
// what was promised together.
func (s *Server) partyRoutes(a *operations) {
	definitionRoutes(a, definitionKind[definition.TeamSpec]{
		kind: catalogue.Team, path: "/teams", name: "a team",
		named:   func(s definition.TeamSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.TeamSpec] { return s.Teams },
	})
	definitionRoutes(a, definitionKind[definition.CustomerSpec]{
		kind: catalogue.Customer, path: "/customers", name: "a customer",
		named:   func(s definition.CustomerSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.CustomerSpec] { return s.Customers },
	})
	definitionRoutes(a, definitionKind[definition.ContractSpec]{
		kind: catalogue.Contract, path: "/contracts", name: "a contract",
		named:   func(s definition.ContractSpec) string { return s.Name },
		entries: func(s *catalogue.Snapshot) map[string]*catalogue.Entry[definition.ContractSpec] { return s.Contracts },
	})
}
