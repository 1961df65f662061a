package judging

import (
	"kambrel.example/kambrel/core/entry"
	"kambrel.example/kambrel/core/textkey"
)

// claimed keeps who has claimed which unique values in a plan that is kept in memory.
// A million people claim three million values, so a person is a number here.
type claimed struct {
	numbers map[number]uint32
	people  []planned
	values  map[textkey.Key]claim
	owners  map[textkey.Key]uint32 // who has a resource now, by its id
	// Directories of the plan, by the place that numbers have of them.
	directories []string
}

// number is an entry.Ref with the place of its directory.
type number struct {
	id        entry.ID
	directory uint16
}

// claim is of one value. It has ended when its holder has claimed anew since.
type claim struct{ holder, round uint32 }

// planned is what became of one that was looked at.
type planned struct {
	number
	round  uint32 // of its claims
	looked bool   // its claims in the database have ended
	done   bool   // decided about
}

func newClaimed() *claimed {
	return &claimed{numbers: map[number]uint32{}, values: map[textkey.Key]claim{}, owners: map[textkey.Key]uint32{}}
}

func (c *claimed) numberOf(ref entry.Ref) number {
	for i, name := range c.directories {
		if name == ref.Directory {
			return number{ref.ID, uint16(i)}
		}
	}
	c.directories = append(c.directories, ref.Directory)
	return number{ref.ID, uint16(len(c.directories) - 1)}
}

// of returns the place of somebody among people.
func (c *claimed) of(ref entry.Ref) uint32 {
	n := c.numberOf(ref)
	at, ok := c.numbers[n]
	if !ok {
		at = uint32(len(c.people))
		c.people = append(c.people, planned{number: n})
		c.numbers[n] = at
	}
	return at
}

func (c *claimed) ref(at uint32) entry.Ref {
	p := c.people[at]
	return entry.Ref{Directory: c.directories[p.directory], ID: p.id}
}

// person is what became of somebody, the zero value of whom was not looked at.
func (c *claimed) person(ref entry.Ref) planned {
	if at, ok := c.numbers[c.numberOf(ref)]; ok {
		return c.people[at]
	}
	return planned{}
}

// end ends all claims of somebody, also those of the database.
func (c *claimed) end(ref entry.Ref) {
	p := &c.people[c.of(ref)]
	p.round++
	p.looked = true
}

// holder is who has claimed a value.
func (c *claimed) holder(key string) (entry.Ref, bool) {
	given, ok := c.values[textkey.Of(key)]
	if !ok || c.people[given.holder].round != given.round {
		return entry.Ref{}, false
	}
	return c.ref(given.holder), true
}

func (c *claimed) give(key string, ref entry.Ref) {
	at := c.of(ref)
	c.values[textkey.Of(key)] = claim{at, c.people[at].round}
}

func (c *claimed) decided(ref entry.Ref) { c.people[c.of(ref)].done = true }

func (c *claimed) own(resourceID string, ref entry.Ref) { c.owners[textkey.Of(resourceID)] = c.of(ref) }

func (c *claimed) owner(resourceID string) (entry.Ref, bool) {
	at, ok := c.owners[textkey.Of(resourceID)]
	if !ok {
		return entry.Ref{}, false
	}
	return c.ref(at), true
}
