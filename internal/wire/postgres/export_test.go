package postgres

import (
	"fmt"

	schema "jollylarder/internal/core/catalog/postgres"
)

// Questions are what the larder asks over clients' connections, for tests.
var Questions = func() map[string]string {
	all := map[string]string{"settings": usualSettingsQuery, "plain settings": plainSettingsQuery, "settings, unreviewed": settingsQuery(serverIdentity, []string{"enable_sort", "geqo"}), "plain catalog": plainCatalogQuery, "names": namesQuery, "nothing": anyQuery, "planning": planningQuery}
	for kind := range catalogQueries {
		all[fmt.Sprint("catalog, ", kind)] = catalogQuestion(schema.Question{Kind: kind, To: 1<<32 - 1, Most: 20, Ranges: [][2]uint32{{0, 20000}, {20001, 1<<32 - 1}}}, 0)
	}
	return all
}()

// QuestionMessages puts statements as the larder puts its questions, for tests, and PlanningQuery comes before those about
// the catalog.
var QuestionMessages = questionMessages

const PlanningQuery = planningQuery

// AboutCatalog gives the statements of the questions about the catalog, by kind.
func AboutCatalog() map[schema.Kind][]string {
	out := map[schema.Kind][]string{}
	for kind := range catalogQueries {
		out[kind] = aboutCatalog(schema.Question{Kind: kind}, "")
	}
	return out
}
