package definition

// TeamSpec is people who own services together.
type TeamSpec struct {
	Name string `json:"name" minLength:"1" maxLength:"120"`
	Note string `json:"note,omitempty" maxLength:"2000"`
}

// CustomerSpec is who was promised something.
type CustomerSpec struct {
	Name string `json:"name" minLength:"1" maxLength:"120"`
	Note string `json:"note,omitempty" maxLength:"2000"`
}

// ContractSpec is what was promised together: agreements that are reported together,
// all with one customer.
type ContractSpec struct {
	Name     string `json:"name" minLength:"1" maxLength:"120"`
	Customer string `json:"customer,omitempty" maxLength:"120" doc:"Id of the customer it is with; empty: internal"`
	Note     string `json:"note,omitempty" maxLength:"2000"`
}

// Validate of a contract.
func (c ContractSpec) Validate() error { return called("name", c.Name) }

// Called is what people call what a spec defines.
func (c ContractSpec) Called() string { return c.Name }

// Validate of a team.
func (t TeamSpec) Validate() error { return called("name", t.Name) }

// Validate of a customer.
func (c CustomerSpec) Validate() error { return called("name", c.Name) }

// Called is what people call what a spec defines.
func (t TeamSpec) Called() string { return t.Name }

// Called is what people call what a spec defines.
func (c CustomerSpec) Called() string { return c.Name }
