package postgres

import (
	"fmt"

	schema "jollylarder/internal/core/catalog/postgres"
)

// SettingNames are the settings in keys, for tests.
var SettingNames = settingNames

// Questions are what the larder asks over clients' connections, for tests.
var Questions = func() map[string]string {
	all := map[string]string{"settings": settingsQuery, "plain settings": plainSettingsQuery, "plain catalog": plainCatalogQuery, "names": namesQuery, "nothing": anyQuery}
	for kind := range catalogQueries {
		all[fmt.Sprint("catalog, ", kind)] = catalogQuestion(schema.Question{Kind: kind, To: 1<<32 - 1, Most: 20, Ranges: [][2]uint32{{0, 20000}, {20001, 1<<32 - 1}}}, 0)
	}
	return all
}()
