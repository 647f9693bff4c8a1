package rules

// Condition is a condition on an order by itself, as rules have it.
type Condition struct{ c condition }

// ParseCondition reads a condition; the empty one always holds. Errors wrap ErrRule.
func ParseCondition(text string) (Condition, error) {
	c, err := compileWhen(text)
	return Condition{c}, err
}

// Holds tells whether it holds for an order with these tags.
func (c Condition) Holds(f *Facts, tags []string) bool { return c.c.holds(&view{f, tags}) }
