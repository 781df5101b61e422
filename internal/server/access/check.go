package access

import (
	"fmt"
	"strings"

	"eastporch/internal/core/invalid"
	"eastporch/internal/core/keys"
	"eastporch/internal/core/plain"
)

// CheckKey says what is wrong with a key to make; the error is an [invalid.FieldError].
func CheckKey(k *keys.NewKey) error {
	if err := CheckName(k.Name); err != nil {
		return err
	}
	if !k.Scope.Valid() {
		return invalid.Field("scope", fmt.Sprintf("%.20q is not a scope", string(k.Scope)), "Give page, server or admin.")
	}
	if len(k.Sites) > MaxList || len(k.Origins) > MaxList {
		return invalid.Field("sites, origins", fmt.Sprintf("more than %d are given", MaxList), "Make several keys.")
	}
	for _, o := range k.Origins {
		if err := CheckOrigin(o); err != nil {
			return invalid.Field("origins", err.Error(), "Give the origins of the pages that use the key.")
		}
	}
	if k.Scope == Page && (len(k.Sites) == 0 || len(k.Origins) == 0) {
		return invalid.Field("sites, origins", "a page key stands in the page's source, so it is bound to both", "Give at least one site and one origin.")
	}
	if k.Scope != Page && len(k.Origins) > 0 {
		return invalid.Field("origins", "only page keys are for browsers", "Leave the origins out.")
	}
	return nil
}

// CheckName says what is wrong with the name of a key.
func CheckName(name string) error {
	if strings.TrimSpace(name) == "" {
		return invalid.Field("name", "it is empty", "Say what the key is for.")
	}
	if err := plain.Check(name, MaxName); err != nil {
		return invalid.Field("name", err.Error(), "Give a short name.")
	}
	return nil
}
