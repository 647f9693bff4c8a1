package orders

import (
	"encoding/json"

	"openrelay/internal/core/message"
	"openrelay/internal/relay/exchange"
	"openrelay/internal/store"
)

// TakeCustomer takes in somebody who buys.
func (r *Orders) TakeCustomer(b *exchange.Batch, in store.InboxMessage, m *message.Customer) error {
	y, _, err := b.Tally(in)
	if err != nil {
		return err
	}
	isNew, err := r.PutCustomer(b, in.OutsideID, m)
	if err != nil {
		return err
	}
	if isNew {
		y.New++
	} else {
		y.Changed++
	}
	b.Settle(in, "done", "", 0)
	return nil
}

// PutCustomer keeps a customer under the other side's number, and tells whether it is new.
func (r *Orders) PutCustomer(b *exchange.Batch, outsideID string, m *message.Customer) (bool, error) {
	address, err := json.Marshal(m.Address)
	if err != nil {
		return false, err
	}
	return b.Ch.PutCustomer(store.Customer{ConnectionID: b.C.ID, OutsideID: outsideID, Name: m.Name, Email: m.Email, Phone: m.Phone,
		Address: string(address), ChangedAt: b.Ch.Now.UnixMicro()})
}
