package api

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"openrelay/internal/core/catalog"
	"openrelay/internal/core/person"
	"openrelay/internal/core/stock"
	"openrelay/internal/relay/listing"
	"openrelay/internal/store"
	"openrelay/internal/wire"
)

func listingShown(l store.Listing, item string, allowed int64, on bool) wire.Listing {
	out := wire.Listing{ID: l.ID, Connection: l.ConnectionCode, ConnectionName: l.ConnectionName, Number: l.OutsideID, SKU: l.SKU,
		GTIN: l.GTIN, Title: l.Title, Category: l.Category,
		Price: l.Price, Currency: l.Currency, URL: l.URL, State: l.State, Reason: l.Reason, Item: item, MatchedBy: l.MatchedBy,
		Doubt: l.Doubt, IgnoredBy: l.IgnoredName,
		Shows: l.SeenQty, ShownAt: at(l.SeenAt), ToldAt: at(l.ToldAt), Allowed: allowed, On: on, Published: l.Published != "",
		Own: listing.OwnOf(&l)}
	if l.OutsideID == store.NewListing(l.SKU) {
		out.Number = ""
	}
	if l.ItemID == 0 {
		out.MatchedBy = ""
	}
	if l.ToldQty >= 0 {
		told := l.ToldQty
		out.Told = &told
	}
	if o := l.Override(); o != nil {
		out.Policy = *o
	}
	return out
}

// SKUInput names an item.
type SKUInput struct {
	SKU string `path:"sku" maxLength:"80"`
}

func (a *API) catalogRoutes() {
	op(a, person.Look, http.MethodGet, "/items", "items", "Items in order of SKU", a.items)
	op(a, person.KeepCatalog, http.MethodPost, "/items", "create-item", "Add an item", a.createItem)
	op(a, person.Look, http.MethodGet, "/items/{sku}/record", "item-record", "The whole record of an item", a.itemRecord)
	op(a, person.KeepCatalog, http.MethodPut, "/items/{sku}/record", "edit-item", "Replace the record of an item", a.editItem)
	op(a, person.KeepCatalog, http.MethodPost, "/items/{sku}/archive", "archive-item", "End the selling of an item, or take it up again",
		a.archiveItem)
	op(a, person.Look, http.MethodGet, "/option-groups", "option-groups", "The option groups of prepared food", a.optionGroups)
	op(a, person.KeepCatalog, http.MethodPut, "/option-groups/{code}", "put-option-group", "Write an option group", a.putOptionGroup)
	op(a, person.Look, http.MethodGet, "/price-lists", "price-lists", "Price lists beside the items' own prices", a.priceLists)
	op(a, person.SetUp, http.MethodPut, "/price-lists/{code}", "put-price-list", "Write a price list", a.putPriceList)
	op(a, person.Look, http.MethodGet, "/field-owners", "field-owners", "Whose word counts for the fields of items", a.fieldOwners)
	op(a, person.SetUp, http.MethodPatch, "/field-owners", "set-field-owners",
		"Say whose word counts for fields of items: a connection's code, ours, or nothing for whoever tells it", a.setFieldOwners)
}

type itemsInput struct {
	PageInput
	Search   string `query:"q" maxLength:"100" doc:"Part of SKU, name, GTIN, group or options"`
	Kind     string `query:"kind"`
	Mark     string `query:"mark"`
	Family   string `query:"family"`
	Category string `query:"category"`
	Archived bool   `query:"archived" doc:"Those that are archived"`
	Unlisted bool   `query:"unlisted" doc:"Those on no channel"`
	After    string `query:"after" doc:"Keyset: the last SKU"`
}

func (a *API) items(ctx context.Context, in *itemsInput) (*paged[store.Item], error) {
	f := store.ItemFilter{Search: strings.TrimSpace(in.Search), Kind: in.Kind,
		Mark: in.Mark, Family: in.Family, Category: in.Category, Archived: in.Archived, Unlisted: in.Unlisted, After: in.After,
		Limit: in.Limit}
	list, err := a.relay.Store.ListItems(ctx, f)
	if list == nil {
		list = []store.Item{}
	}
	out := &paged[store.Item]{Body: list}
	if len(list) == in.Limit {
		q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
		for k, v := range map[string]string{"q": in.Search, "kind": in.Kind, "mark": in.Mark, "family": in.Family,
			"category": in.Category} {
			if v != "" {
				q.Set(k, v)
			}
		}
		for k, v := range map[string]bool{"archived": in.Archived, "unlisted": in.Unlisted} {
			if v {
				q.Set(k, "true")
			}
		}
		out.Link = next("/items", q, "after", list[len(list)-1].SKU)
	}
	return out, err
}

type itemBody struct{ Body catalog.Item }

type itemOutput struct {
	ETag string `header:"ETag"`
	Body catalog.Item
}

func (a *API) itemBySKU(ctx context.Context, sku string) (*itemOutput, error) {
	it, err := a.relay.Store.Record(ctx, sku)
	if err != nil {
		return nil, fmt.Errorf("item %s: %w", sku, err)
	}
	return &itemOutput{etag(it.Revision), it}, nil
}

func (a *API) createItem(ctx context.Context, in *itemBody) (*itemOutput, error) {
	in.Body.Complete(a.relay.Currency())
	if err := a.relay.CreateItem(ctx, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.itemBySKU(ctx, in.Body.SKU)
}

func (a *API) itemRecord(ctx context.Context, in *SKUInput) (*itemOutput, error) {
	return a.itemBySKU(ctx, in.SKU)
}

type editInput struct {
	SKUInput
	IfMatch string `header:"If-Match"`
	Body    catalog.Item
}

func (a *API) editItem(ctx context.Context, in *editInput) (*itemOutput, error) {
	rev, err := seenRevision(in.IfMatch)
	if err != nil {
		return nil, err
	}
	in.Body.Complete(a.relay.Currency())
	if err := a.relay.EditItem(ctx, in.SKU, in.Body, rev, who(ctx)); err != nil {
		return nil, err
	}
	return a.itemBySKU(ctx, in.Body.SKU)
}

type archiveInput struct {
	SKUInput
	Body struct {
		Archived bool `json:"archived"`
	}
}

func (a *API) archiveItem(ctx context.Context, in *archiveInput) (*itemOutput, error) {
	if err := a.relay.Archive(ctx, in.SKU, in.Body.Archived, who(ctx)); err != nil {
		return nil, err
	}
	return a.itemBySKU(ctx, in.SKU)
}

func (a *API) optionGroups(ctx context.Context, _ *struct{}) (*body[[]catalog.Group], error) {
	list, err := a.relay.Store.Groups(ctx)
	return &body[[]catalog.Group]{list}, err
}

type groupInput struct {
	Code string `path:"code" maxLength:"80"`
	Body catalog.Group
}

func (a *API) putOptionGroup(ctx context.Context, in *groupInput) (*body[catalog.Group], error) {
	in.Body.Code = in.Code
	return &body[catalog.Group]{in.Body}, a.relay.PutGroup(ctx, in.Body)
}

func (a *API) priceLists(ctx context.Context, _ *struct{}) (*body[[]store.PriceList], error) {
	list, err := a.relay.Store.PriceLists(ctx)
	return &body[[]store.PriceList]{list}, err
}

type catalogListInput struct {
	Code string `path:"code" maxLength:"40"`
	Body store.PriceList
}

func (a *API) putPriceList(ctx context.Context, in *catalogListInput) (*body[store.PriceList], error) {
	in.Body.Code = in.Code
	return &body[store.PriceList]{in.Body}, a.relay.PutPriceList(ctx, in.Body)
}

func (a *API) fieldOwners(ctx context.Context, _ *struct{}) (*body[map[string]string], error) {
	m, err := a.relay.Owners(ctx)
	return &body[map[string]string]{m}, err
}

type ownersInput struct{ Body map[string]string }

func (a *API) setFieldOwners(ctx context.Context, in *ownersInput) (*body[map[string]string], error) {
	if err := a.relay.SetOwners(ctx, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	m, err := a.relay.Owners(ctx)
	return &body[map[string]string]{m}, err
}

func (a *API) listingsRoutes() {
	op(a, person.Look, http.MethodGet, "/listings", "listings",
		"Listings of the channels, those that wait with what they may be", a.listings)
	op(a, person.Look, http.MethodGet, "/listings/counts", "listing-counts", "How the listings of each channel stand", a.listingCounts)
	op(a, person.KeepCatalog, http.MethodPost, "/listings/{id}/match", "match",
		"Say which item a listing is; orders that waited go on", a.match)
	op(a, person.KeepCatalog, http.MethodPost, "/listings/{id}/unmatch", "unmatch", "End a match; the listing waits again", a.unmatch)
	op(a, person.KeepCatalog, http.MethodPost, "/listings/{id}/create-item", "create-from-listing", "Make an item from a listing",
		a.createFromListing)
	op(a, person.KeepCatalog, http.MethodPost, "/listings/{id}/ignore", "ignore-listing", "Leave a listing alone on purpose, or end that",
		a.ignoreListing)
	op(a, person.KeepCatalog, http.MethodPut, "/listings/{id}/own", "set-own", "Say something of an item on this channel only", a.setOwn)
	op(a, person.KeepCatalog, http.MethodPut, "/listings/{id}/policy", "set-listing-policy",
		"Offer a listing differently from the rest of its channel", a.setListingPolicy)
	op(a, person.Look, http.MethodPost, "/connections/{code}/publish/preview", "preview-publish",
		"Exactly what publishing items on a channel would send", a.previewPublish)
	op(a, person.KeepCatalog, http.MethodPost, "/connections/{code}/publish",
		"publish", "List items on a channel, or change how they are listed", a.publish)
}

type listingListInput struct {
	PageInput
	Connection string `query:"connection"`
	Match      string `query:"match" enum:"matched,to match,ignored," doc:"Empty: all"`
	State      string `query:"state"`
	Search     string `query:"q" maxLength:"100"`
	After      int64  `query:"after"`
}

func (a *API) listings(ctx context.Context, in *listingListInput) (*paged[wire.Listing], error) {
	list, err := a.relay.ToMatch(ctx, store.ListingFilter{Connection: in.Connection, Match: in.Match, State: in.State,
		Search: strings.TrimSpace(in.Search), After: in.After, Limit: in.Limit}, 4)
	if err != nil {
		return nil, err
	}
	ids := make([]int64, len(list))
	for i, l := range list {
		ids[i] = l.ItemID
	}
	items, err := a.relay.Store.Items(ctx, ids)
	if err != nil {
		return nil, err
	}
	offers, err := a.relay.Offers(ctx, list)
	if err != nil {
		return nil, err
	}
	out := &paged[wire.Listing]{Body: make([]wire.Listing, len(list))}
	for i, l := range list {
		out.Body[i] = listingShown(l.Listing, items[l.ItemID].SKU, offers[i].Allowed, offers[i].On)
		out.Body[i].Suggestions, out.Body[i].Waiting = l.Suggestions, l.Waiting
	}
	if len(list) == in.Limit {
		q := url.Values{"limit": {fmt.Sprint(in.Limit)}}
		for k, v := range map[string]string{"connection": in.Connection, "match": in.Match, "state": in.State, "q": in.Search} {
			if v != "" {
				q.Set(k, v)
			}
		}
		out.Link = next("/listings", q, "after", fmt.Sprint(list[len(list)-1].ID))
	}
	return out, nil
}

func (a *API) listingCounts(ctx context.Context, _ *struct{}) (*body[[]store.ListingCount], error) {
	list, err := a.relay.Store.CountListings(ctx)
	return &body[[]store.ListingCount]{list}, err
}

type IDInput struct {
	ID int64 `path:"id"`
}

func (a *API) listingByID(ctx context.Context, id int64) (*body[wire.Listing], error) {
	l, err := a.relay.Store.ListingByID(ctx, id)
	if err != nil {
		return nil, err
	}
	items, err := a.relay.Store.Items(ctx, []int64{l.ItemID})
	if err != nil {
		return nil, err
	}
	offers, err := a.relay.Offers(ctx, []listing.Suggested{{Listing: l}})
	if err != nil {
		return nil, err
	}
	return &body[wire.Listing]{listingShown(l, items[l.ItemID].SKU, offers[0].Allowed, offers[0].On)}, nil
}

type matchInput struct {
	IDInput
	Body struct {
		Item  string `json:"item" doc:"SKU"`
		Every bool   `json:"every,omitempty" doc:"All listings of the channel with the same SKU: they are folded into one item"`
	}
}

func (a *API) match(ctx context.Context, in *matchInput) (*body[wire.Listing], error) {
	if err := a.relay.Match(ctx, in.ID, in.Body.Item, in.Body.Every, who(ctx)); err != nil {
		return nil, err
	}
	return a.listingByID(ctx, in.ID)
}

func (a *API) unmatch(ctx context.Context, in *IDInput) (*body[wire.Listing], error) {
	if err := a.relay.Unmatch(ctx, in.ID, who(ctx)); err != nil {
		return nil, err
	}
	return a.listingByID(ctx, in.ID)
}

type createInput struct {
	IDInput
	Body struct {
		SKU string `json:"sku,omitempty" doc:"Empty takes the listing's own"`
	}
}

func (a *API) createFromListing(ctx context.Context, in *createInput) (*body[wire.Listing], error) {
	if _, err := a.relay.CreateFrom(ctx, in.ID, strings.TrimSpace(in.Body.SKU), who(ctx)); err != nil {
		return nil, err
	}
	return a.listingByID(ctx, in.ID)
}

type ignoreInput struct {
	IDInput
	Body struct {
		Ignore bool `json:"ignore"`
	}
}

func (a *API) ignoreListing(ctx context.Context, in *ignoreInput) (*body[wire.Listing], error) {
	if err := a.relay.Ignore(ctx, in.ID, in.Body.Ignore, who(ctx)); err != nil {
		return nil, err
	}
	return a.listingByID(ctx, in.ID)
}

type ownInput struct {
	IDInput
	Body listing.Own
}

func (a *API) setOwn(ctx context.Context, in *ownInput) (*body[wire.Listing], error) {
	if err := a.relay.SetOwn(ctx, in.ID, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.listingByID(ctx, in.ID)
}

type policyInput struct {
	IDInput
	Body stock.Override
}

func (a *API) setListingPolicy(ctx context.Context, in *policyInput) (*body[wire.Listing], error) {
	if err := a.relay.SetPolicy(ctx, in.ID, in.Body, who(ctx)); err != nil {
		return nil, err
	}
	return a.listingByID(ctx, in.ID)
}

type selectInput struct {
	Code string `path:"code"`
	Body listing.Selection
}

func (a *API) previewPublish(ctx context.Context, in *selectInput) (*body[listing.PublishPreview], error) {
	p, err := a.relay.PublishPreview(ctx, in.Code, in.Body)
	return &body[listing.PublishPreview]{p}, err
}

type publishInput struct {
	Code string `path:"code"`
	Body struct {
		listing.Selection
		Digest string `json:"digest" doc:"Of the preview that was seen"`
	}
}

func (a *API) publish(ctx context.Context, in *publishInput) (*body[wire.Sent], error) {
	n, err := a.relay.Publish(ctx, in.Code, in.Body.Selection, in.Body.Digest, who(ctx))
	return &body[wire.Sent]{wire.Sent{Sent: n}}, err
}
