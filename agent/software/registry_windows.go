package software

import (
	"errors"

	"golang.org/x/sys/windows/registry"
)

// Registry is the running machine's, below HKEY_LOCAL_MACHINE. Its keys are
// closed with the process, which ends when the list is written.
func Registry() Key { return key{registry.LOCAL_MACHINE} }

type key struct{ registry.Key }

func (k key) Open(path string) (Key, error) {
	below, err := registry.OpenKey(k.Key, path, registry.READ|registry.WOW64_64KEY)
	if errors.Is(err, registry.ErrNotExist) {
		err = ErrNoKey
	}
	return key{below}, err
}

func (k key) Keys() ([]string, error) { return k.ReadSubKeyNames(-1) }

func (k key) Text(name string) (string, error) {
	value, _, err := k.GetStringValue(name)
	if errors.Is(err, registry.ErrNotExist) || errors.Is(err, registry.ErrUnexpectedType) {
		return "", nil
	}
	return value, err
}

func (k key) Number(name string) (uint64, error) {
	value, _, err := k.GetIntegerValue(name)
	if errors.Is(err, registry.ErrNotExist) || errors.Is(err, registry.ErrUnexpectedType) {
		return 0, nil
	}
	return value, err
}
