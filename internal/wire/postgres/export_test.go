package postgres

// SettingNames are the settings in keys, for tests.
var SettingNames = settingNames

// Questions are what the larder asks over clients' connections, for tests.
var Questions = map[string]string{
	"settings": settingsQuery, "plain settings": plainSettingsQuery, "catalog": catalogQuery, "plain catalog": plainCatalogQuery, "mark": markQuery, "nothing": anyQuery,
}
