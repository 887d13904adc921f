package postgres

// SettingNames are the settings in keys, for tests.
var SettingNames = settingNames
