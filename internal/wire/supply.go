package wire

import "time"

// Purchase is an order of ours at a supplier.
type Purchase struct {
	Number       string         `json:"number"`
	Supplier     string         `json:"supplier"`
	Location     string         `json:"location"`
	LocationName string         `json:"location_name"`
	State        string         `json:"state" enum:"open,closed"`
	Expected     string         `json:"expected,omitempty"`
	Note         string         `json:"note,omitempty"`
	Who          string         `json:"who"`
	CreatedAt    *time.Time     `json:"created_at"`
	ClosedAt     *time.Time     `json:"closed_at,omitempty"`
	Ordered      int64          `json:"ordered"`
	Received     int64          `json:"received"`
	Lines        []PurchaseLine `json:"lines,omitempty"`
	Timeline     []Entry        `json:"timeline,omitempty"`
}

// PurchaseLine is one item of a purchase.
type PurchaseLine struct {
	SKU      string `json:"sku"`
	GTIN     string `json:"gtin,omitempty"`
	Name     string `json:"name"`
	Bin      string `json:"bin" doc:"Where it usually lies"`
	Serials  bool   `json:"serials,omitempty"`
	Ordered  int64  `json:"ordered"`
	Received int64  `json:"received"`
	Short    int64  `json:"short" doc:"Given up when it was closed"`
	Left     int64  `json:"left"`
}

// Transfer is goods on their way between locations of ours.
type Transfer struct {
	Number    string         `json:"number"`
	From      string         `json:"from"`
	FromName  string         `json:"from_name"`
	To        string         `json:"to"`
	ToName    string         `json:"to_name"`
	State     string         `json:"state" enum:"draft,under way,closed"`
	Note      string         `json:"note,omitempty"`
	Who       string         `json:"who"`
	CreatedAt *time.Time     `json:"created_at"`
	SentAt    *time.Time     `json:"sent_at,omitempty"`
	ClosedAt  *time.Time     `json:"closed_at,omitempty"`
	Units     int64          `json:"units"`
	Arrived   int64          `json:"arrived"`
	Lost      int64          `json:"lost"`
	Lines     []TransferLine `json:"lines,omitempty"`
	Timeline  []Entry        `json:"timeline,omitempty"`
}

// TransferLine is one item of a transfer.
type TransferLine struct {
	SKU      string `json:"sku"`
	GTIN     string `json:"gtin,omitempty"`
	Name     string `json:"name"`
	Quantity int64  `json:"quantity"`
	Arrived  int64  `json:"arrived"`
	Lost     int64  `json:"lost"`
	Left     int64  `json:"left"`
}

// Count is a counting of a location.
type Count struct {
	Number       string      `json:"number"`
	Location     string      `json:"location"`
	LocationName string      `json:"location_name"`
	State        string      `json:"state" enum:"open,posted,dropped"`
	Note         string      `json:"note,omitempty"`
	Who          string      `json:"who"`
	CreatedAt    *time.Time  `json:"created_at"`
	PostedAt     *time.Time  `json:"posted_at,omitempty"`
	Counted      int64       `json:"counted" doc:"Lines"`
	Differ       int64       `json:"differ" doc:"Lines that differ"`
	Lines        []CountLine `json:"lines,omitempty"`
	Timeline     []Entry     `json:"timeline,omitempty"`
}

// CountLine is what was counted of an item in a bin.
type CountLine struct {
	SKU      string     `json:"sku"`
	GTIN     string     `json:"gtin,omitempty"`
	Name     string     `json:"name"`
	Bin      string     `json:"bin"`
	Counted  int64      `json:"counted"`
	Expected int64      `json:"expected" doc:"What should have lain there when it was counted"`
	At       *time.Time `json:"at"`
	Who      string     `json:"who"`
}
