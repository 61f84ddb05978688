package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
)

// oneOf is a flag that takes one of a few words.
type oneOf[T ~string] struct {
	into  *T
	words []T
}

// String returns the word that is set.
func (o oneOf[T]) String() string { return deref(o.into) }

// Type says in the help what is to be given.
func (o oneOf[T]) Type() string { return "word" }

// Set takes a word, or says which there are.
func (o oneOf[T]) Set(text string) error {
	if !slices.Contains(o.words, T(text)) {
		return fmt.Errorf("it can be %s", orList(o.words))
	}
	*o.into = T(text)
	return nil
}

// wordFlag adds a flag that takes one of a few words; its help lists them behind
// what it does.
func wordFlag[T ~string](cmd *cobra.Command, into *T, name string, words []T, does string) {
	cmd.Flags().Var(oneOf[T]{into, words}, name, does+": "+orList(words))
	if err := cmd.RegisterFlagCompletionFunc(
		name, cobra.FixedCompletions(texts(words), cobra.ShellCompDirectiveNoFileComp),
	); err != nil {
		panic(err) // the flag was added just now
	}
}

func texts[T ~string](words []T) []string {
	out := make([]string, len(words))
	for i, w := range words {
		out[i] = string(w)
	}
	return out
}

// orList writes words as people say them: a, b or c.
func orList[T ~string](words []T) string {
	list := texts(words)
	if len(list) < 2 {
		return strings.Join(list, "")
	}
	return strings.Join(list[:len(list)-1], ", ") + " or " + list[len(list)-1]
}
