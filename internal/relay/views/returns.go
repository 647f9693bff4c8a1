package views

import (
	"context"

	"openrelay/internal/core/order"
	"openrelay/internal/core/returns"
	"openrelay/internal/store"
)

// ReturnView is everything known about one return.
type ReturnView struct {
	store.GoodsReturn
	Order    *order.Order
	Expected []returns.Line // what has left of the order; announced says how many units
	Left     map[returns.Key]int64
	Items    map[int64]store.Item
	Serials  []store.ReturnedSerial
	Proposed returns.Refund
	Before   int64 // what was given back for the order with other returns
}

// Return gathers everything known about one return, by its number or that of the parcel in which it comes.
func (r *Views) Return(ctx context.Context, number string) (ReturnView, error) {
	x, err := r.Store.Return(ctx, number)
	out := ReturnView{GoodsReturn: x}
	if err != nil {
		return out, err
	}
	if out.Order, err = r.Store.OrderByID(ctx, x.OrderID); err != nil {
		return out, err
	}
	all, err := r.Store.ReturnsOfOrder(ctx, x.OrderID)
	if err != nil {
		return out, err
	}
	decisions := make([]returns.Return, 0, len(all))
	for i := range all {
		d := all[i].Decision()
		if all[i].ID == x.ID {
			d.State = returns.Settled // what it announced may come
		} else {
			out.Before += all[i].Refund
		}
		decisions = append(decisions, d)
	}
	out.Expected, out.Left = returns.Sent(out.Order), returns.Left(out.Order, decisions)
	var ids []int64
	for _, l := range out.Expected {
		ids = append(ids, l.ItemID)
	}
	for _, l := range x.Lines {
		ids = append(ids, l.ItemID)
	}
	if out.Items, err = r.Store.Items(ctx, ids); err != nil {
		return out, err
	}
	if out.Serials, err = r.Store.SerialsReturned(ctx, x.ID); err != nil {
		return out, err
	}
	out.Proposed, err = r.Returning.ProposeRefund(ctx, &x, out.Order)
	return out, err
}
