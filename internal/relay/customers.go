package relay

import (
	"encoding/json"

	"openrelay/internal/core/message"
	"openrelay/internal/store"
)

// customer takes in somebody who buys.
func (b *batch) customer(in store.InboxMessage, m *message.Customer) error {
	y, _, err := b.tally(in)
	if err != nil {
		return err
	}
	isNew, err := b.putCustomer(in.OutsideID, m)
	if err != nil {
		return err
	}
	if isNew {
		y.New++
	} else {
		y.Changed++
	}
	b.settle(in, "done", "", 0)
	return nil
}

// putCustomer keeps a customer under the other side's number, and tells whether it is new.
func (b *batch) putCustomer(outsideID string, m *message.Customer) (bool, error) {
	address, err := json.Marshal(m.Address)
	if err != nil {
		return false, err
	}
	return b.ch.PutCustomer(store.Customer{ConnectionID: b.c.id, OutsideID: outsideID, Name: m.Name, Email: m.Email, Phone: m.Phone, Address: string(address), ChangedAt: b.ch.now.UnixMicro()})
}
