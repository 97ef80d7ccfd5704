package api

import (
	"reflect"

	"gorm.io/gorm"

	"nimblepane/store"
)

// filters are the query parameters that select by the name of something, and how it is found: a name of nothing is an
// error and not an empty list, which would read as an all-clear.
var filters = map[string]func(db *gorm.DB, name string) error{
	"image":   func(db *gorm.DB, name string) error { return second(store.ImageNamed(db, name)) },
	"pool":    func(db *gorm.DB, name string) error { return second(store.PoolNamed(db, name)) },
	"site":    func(db *gorm.DB, name string) error { return second(store.SiteNamed(db, name)) },
	"host":    func(db *gorm.DB, name string) error { return second(store.HostNamed(db, name)) },
	"feed":    func(db *gorm.DB, name string) error { return second(store.FeedNamed(db, name)) },
	"owner":   func(db *gorm.DB, name string) error { return second(store.AccountNamed(db, name)) },
	"actor":   store.KnownActor,
	"version": store.KnownNumber,
}

func second[T any](_ T, err error) error { return err }

// named is a field of an input that is a filter, by its index.
type named struct {
	name  string
	index []int
}

// filtersOf returns the filters among the query parameters of an input.
func filtersOf(in reflect.Type) (list []named) {
	for _, f := range reflect.VisibleFields(in) {
		if name := f.Tag.Get("query"); filters[name] != nil && f.Type.Kind() == reflect.String {
			list = append(list, named{name, f.Index})
		}
	}
	return list
}

// exist returns store.ErrNotFound if a filter of an input has an unknown name.
func exist(db *gorm.DB, in any, list []named) error {
	value := reflect.ValueOf(in).Elem()
	for _, f := range list {
		if name := value.FieldByIndex(f.index).String(); name != "" {
			if err := filters[f.name](db, name); err != nil {
				return err
			}
		}
	}
	return nil
}
