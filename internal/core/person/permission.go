package person

// Permission is a set of things that one may do. Where one is asked for, having any of the set is enough.
type Permission uint32

const (
	Own          Permission = 1 << iota // one's own password, second factor and sessions
	Look                                // look at all that is not private
	SeeBuyers                           // read names, addresses and whatever else tells who somebody is
	HandOver                            // give buyers what lies ready for them
	Ship                                // pick, pack, buy labels, close the day with a carrier
	KeepStock                           // receive, move, count and adjust goods
	WorkOrders                          // type, change, hold, answer and cancel orders
	BuyGoods                            // order goods at suppliers
	KeepCatalog                         // items, listings, matching and publishing
	RunFeeds                            // run feeds, try mappings, read logs and whole messages
	KeepBooks                           // note what went into the books
	SetUp                               // the company, places, connections, rules
	ManagePeople                        // people, their roles, tokens
	GuardPrivacy                        // who looked at whom, erasing, how long things are kept

	// Anybody is what whoever reaches us may do, signed in or not.
	Anybody Permission = 0
)

var permissionNames = []string{"own", "look", "buyers", "hand-over", "ship", "stock", "orders", "purchasing", "catalog", "feeds", "books",
	"setup", "people", "privacy"}

// All lists every permission, one by one.
func All() []Permission {
	out := make([]Permission, len(permissionNames))
	for i := range out {
		out[i] = 1 << i
	}
	return out
}

// Names writes a set as its words, in the order above.
func (p Permission) Names() []string {
	out := []string{}
	for i, name := range permissionNames {
		if p&(1<<i) != 0 {
			out = append(out, name)
		}
	}
	return out
}
