package casework

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"wexter/core/knowledge"
	"wexter/store"
)

// mostMakerCodes is how many makers' codes a shop can give a meaning.
const mostMakerCodes = 2000

// BookOf is the Book with the makers' codes that this shop has looked up.
func (s *Shop) BookOf(ctx context.Context) (knowledge.Book, error) {
	w, err := s.Ways(ctx)
	if err != nil {
		return s.Book, err
	}
	return s.Book.Given(w.Codes), nil
}

// GiveMeaning writes down what a maker's own code says, the group of codes that it weighs like,
// and where that was read. From then on it counts on every case; a second time it corrects the
// first.
func (s *Shop) GiveMeaning(ctx context.Context, key string, c knowledge.Code) error {
	c, err := s.checkMeaning(c)
	if err != nil {
		return err
	}
	return s.changeCodes(ctx, key, func(codes []knowledge.Code) ([]knowledge.Code, error) {
		codes = slices.DeleteFunc(codes, func(x knowledge.Code) bool { return x.Code == c.Code })
		if len(codes) >= mostMakerCodes {
			return nil, problem("code", "This shop has given %d codes a meaning already; forget some that no car brings any more.", mostMakerCodes)
		}
		codes = append(codes, c)
		slices.SortFunc(codes, func(a, b knowledge.Code) int { return strings.Compare(a.Code, b.Code) })
		return codes, nil
	})
}

// ForgetMeaning takes the meaning of a maker's code away.
func (s *Shop) ForgetMeaning(ctx context.Context, key, code string) error {
	return s.changeCodes(ctx, key, func(codes []knowledge.Code) ([]knowledge.Code, error) {
		return slices.DeleteFunc(codes, func(x knowledge.Code) bool { return x.Code == code }), nil
	})
}

// checkMeaning refuses a meaning that cannot be, and returns it as it is kept.
func (s *Shop) checkMeaning(c knowledge.Code) (knowledge.Code, error) {
	code, err := knowledge.FoldCode(c.Code)
	if err != nil {
		return c, problem("code", "%s.", Upper(err.Error()))
	}
	if slices.ContainsFunc(s.Book.Codes, func(x knowledge.Code) bool { return x.Code == code }) || !knowledge.MakersOwn(code) {
		return c, problem("code", "%s is a standard code, or in the Book already: the shop cannot change its meaning.", code)
	}
	says, err := text("says", c.Says, 120)
	if err != nil {
		return c, err
	}
	source, err := text("source", c.Source, 200)
	if err != nil {
		return c, err
	}
	switch {
	case says == "":
		return c, problem("says", "Write what the maker says that %s means.", code)
	case source == "":
		return c, problem("source", "Write where the meaning of %s was read: title, publisher and year.", code)
	case !slices.ContainsFunc(s.Book.Groups, func(g knowledge.CodeGroup) bool { return g.Key == c.Group }):
		return c, problem("group", "Choose the codes that %s counts like.", code)
	}
	return knowledge.Code{Code: code, Says: says, Group: c.Group, Source: source}, nil
}

// changeCodes changes the makers' codes among the shop's ways, and leaves the rest as it is.
func (s *Shop) changeCodes(ctx context.Context, key string, change func([]knowledge.Code) ([]knowledge.Code, error)) error {
	_, err := s.do(ctx, key, func(tx store.Tx) (string, error) {
		w, err := waysIn(tx)
		if err != nil {
			return "", err
		}
		if w.Codes, err = change(w.Codes); err != nil {
			return "", err
		}
		data, err := json.Marshal(w)
		if err != nil {
			return "", err
		}
		return string(store.Ways), tx.KeepSetting(store.Ways, string(data))
	})
	return err
}
