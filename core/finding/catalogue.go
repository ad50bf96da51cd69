package finding

// Every kind of finding there is, by area. A sentence of Why speaks of players; Do of the maintainer.
var (
	TOMLSyntax  = declare("toml.syntax", Error, "Nothing in this file can be used until it is valid TOML.", "Correct the line; TOML wants key = value, text in quotes.")
	TOMLUnknown = declare("toml.unknown-key", Error, "A misspelt setting does nothing, silently, and the release goes out without it.", "Correct the spelling or remove the line.")
	TOMLValue   = declare("toml.value", Error, "The setting can't be used, so what it rules is undecided.", "Give a value of the kind that is asked for.")

	AcceptUnused = declare("accept.unused", Note, "An acceptance that matches nothing may hide the next, real case.", "Remove the [[accept]] block, or correct its finding or where.")

	MapSyntax    = declare("map.syntax", Error, "The map can't be compiled, so it would be missing from the release.", "Correct the line.")
	MapDuplicate = declare("map.duplicate-name", Error, "Two things with one name can't be told apart by the game.", "Give one of them another name.")
	MapName      = declare("map.name-differs", Error, "A game that looks a map up by its file finds another name inside and does not load it.", "Make the name after 'map' and the file name the same.")
	MapEmpty     = declare("map.empty", Error, "Players would fall into nothing: the map has neither solids nor a grid.", "Add a solid or a grid.")
	MapTitle     = declare("map.no-title", Warning, "Players see the file name in lists instead of a title.", "Add title=\"...\" to the map line.")
	MapPlayers   = declare("map.no-players", Warning, "Nobody can tell for how many players the map is meant.", "Add players=2..8 (least and most) to the map line.")

	MaterialMissing = declare("material.missing", Error, "The surface shows the game's missing pattern.", "Correct the name, or add the material file.")
	TextureMissing  = declare("texture.missing", Error, "The surface shows the game's missing pattern.", "Correct the name in the material, or add the image.")
	SoundMissing    = declare("sound.missing", Warning, "It stays silent there in the game.", "Correct the name, or add the sound file.")
	RefForm         = declare("reference.form", Error, "The game looks in the wrong place and finds nothing.", "Write the path from the kind's folder, with forward slashes and without an ending.")
	RefEnding       = declare("reference.ending", Error, "The game adds the ending itself, looks for a file with two and finds nothing.", "Leave the ending out.")
	RefAbsolute     = declare("reference.absolute", Error, "The path exists on your machine only; everybody else sees the missing pattern.", "Write the path from the kind's folder.")
	RefCase         = declare("reference.case", Error, "It works on Windows and is missing on the server, which tells capitals from small letters.", "Write the name as the file is called.")
	AssetUnused     = declare("asset.unused", Note, "It will not ship; if a map should have used it, players will miss it.", "Use it, include it under [pack], or delete it.")
	AssetTwin       = declare("asset.same-name", Error, "Two sources would become one file in the release, and only one of them would win.", "Keep one of the files.")

	TextureDecode   = declare("texture.unreadable", Error, "The texture can't be made, so surfaces would show the missing pattern.", "Export the image again.")
	TextureSize     = declare("texture.size", Error, "The game refuses textures whose size breaks its rule.", "Resize the image.")
	TextureResized  = declare("texture.resized", Note, "Resizing blurs a little, and stretches when the sides change by different factors.", "Paint the image in that size when it matters.")
	TextureAlpha    = declare("texture.alpha-lost", Warning, "See-through parts become solid in the game.", "Choose format = \"auto\" for it under [[texture]].")
	TextureColour   = declare("texture.colour-lost", Warning, "The surface shows other colours than the artist painted.", "Choose format = \"auto\" for it under [[texture]].")
	TextureLight    = declare("texture.light-lost", Warning, "What is brighter than white becomes plain white: lamps and skies look flat.", "Allow bc6h or rgba16f for it, or choose format = \"auto\".")
	TextureMisnamed = declare("texture.misnamed", Warning, "Other programs believe the ending and refuse the file, or show it wrongly.", "Give the file the ending of what it is.")
	TextureNormal   = declare("texture.normal-as-colour", Warning, "Light falls on the surface from wrong directions: sRGB bends every one of them.", "Add kind = \"normal\" to its recipe under [[texture]], or name it as normal in the material.")
	TextureNotUnit  = declare("texture.not-normal", Warning, "Light falls on the surface from wrong directions.", "Export it as a normal map; of a height image one is made with from_height = true.")
	TextureOpaque   = declare("texture.no-alpha", Warning, "Nothing is seen through there: the image has no alpha.", "Add alpha to the image, or take see_through out of the material.")
	TextureSidecar  = declare("texture.sidecar", Error, "What it says is applied to nothing.", "Put the image beside it, or name its images.")
	TextureFormat   = declare("texture.format", Error, "The game can't read the texture.", "Choose one of the formats that the profile lists.")

	MaterialKind     = declare("material.texture-kind", Error, "The surface is lit wrongly: colours, normals and data are read differently.", "Name a texture of the right kind, or correct its recipe's kind.")
	MaterialInherits = declare("material.inherits", Error, "The material has no values, so the surface shows the missing pattern.", "Correct the name after inherits.")

	SpriteMissing = declare("sprite.missing", Error, "Nothing is drawn there in the game.", "Correct the name, or add the sheet.")
	SpriteState   = declare("sprite.state", Error, "A state that is misspelt shows nothing, without a word.", "Use one of the sheet's states.")
	SpriteImage   = declare("sprite.image", Error, "The sprite can't be made, so nothing is drawn.", "Correct the name, or add the image.")
	SpriteFrame   = declare("sprite.frame", Error, "The state would show nothing, or a part of another frame.", "Correct the numbers, or the size of a frame.")
	SpritePages   = declare("sprite.pages", Error, "Frames would be missing from the game.", "Correct pages in the sheet.")
	SpriteBlank   = declare("sprite.blank", Note, "The sprite vanishes for the length of that frame.", "Paint the frame, or leave it out.")

	MaterialSurface = declare("material.surface", Error, "Footsteps and friction come from the surface; the game knows only those in its list.", "Choose one of the profile's surfaces.")

	SpawnNone    = declare("spawn.none", Error, "Nobody can enter the map.", "Add a spawn line.")
	SpawnTeam    = declare("spawn.no-team", Error, "Players of that team can't enter the map.", "Add a spawn with that team, or one without a team, which serves any.")
	SpawnFew     = declare("spawn.few", Warning, "When the map is full, players wait or appear inside one another.", "Add spawns, or lower the most players.")
	SpawnBlocked = declare("spawn.blocked", Error, "A player who appears there is stuck in a wall.", "Move the spawn out of the solid.")
	TeamUnknown  = declare("team.unknown", Error, "The game ignores a spawn of a team it does not know.", "Use one of the game's teams, or leave team= out.")
	ModeUnknown  = declare("mode.unknown", Error, "The game never offers the map in that mode.", "Use one of the game's modes.")
	ModeInside   = declare("mode.contained", Warning, "Servers that search by part of a word start the map in the wrong mode.", "Choose one of the two, or accept the finding if the game compares whole words.")
	LightKind    = declare("light.kind", Error, "The game can't show this kind of light: it stays dark there.", "Use one of the kinds that the profile lists.")
	VolumeBelow  = declare("volume.none-below", Error, "Players who fall off the map fall for ever.", "Add a volume with effect=remove below the lowest solid, as wide as the map.")
	ItemRequired = declare("item.required", Error, "The game does not start the map without it.", "Add the item.")
	ItemLimit    = declare("item.limit", Error, "Those beyond the game's limit never appear, without a word.", "Remove some.")
	FormWrong    = declare("map.form", Error, "The game can't play this kind of map.", "Use solids for a game of solids, grids for a game of tiles.")
	GridRow      = declare("grid.row", Error, "Cells would shift: walls and doors end up elsewhere.", "Make every row as long, and as many rows, as cells= says.")
	GridSymbol   = declare("grid.symbol", Error, "The cell has no tile, so there is a hole in the map.", "Add a legend line for the symbol, or correct the row.")

	PathCase       = declare("path.case", Error, "It works on Windows and is missing on the server, which tells capitals from small letters.", "Rename the file in small letters, and where it is mentioned.")
	PathChars      = declare("path.characters", Error, "The game, or somebody's system, can't open a file of that name.", "Rename the file.")
	PathLong       = declare("path.long", Error, "The game cuts longer paths off and does not find the file.", "Shorten the name or its folder.")
	FileUnreadable = declare("file.unreadable", Error, "What is made of it would be missing from the release.", "Check who may read it, and whether another program has it open.")
	FileStray      = declare("file.stray", Note, "It does not ship, but it makes the project harder to read and is easily mistaken for the real one.", "Delete it or move it out of the project.")

	AddonField    = declare("addon.field", Error, "The game or the workshop refuses the addon, or cuts the text off.", "Correct the field under [addon].")
	AddonLeftover = declare("addon.placeholder", Warning, "Players read the placeholder on the addon's page.", "Write the real text.")

	TreeForeign = declare("tree.foreign", Warning, "It was not made by the build, so it does not ship; someone may believe that it does.", "Delete it, or move it to the sources.")

	TryUnreadable = declare("try.unreadable", Error, "A player who has only this bundle can't load it.", "Build and pack again; if it stays, the disk may be at fault.")
	TryMissing    = declare("try.missing", Error, "A player who has only this bundle sees the missing pattern there.", "Find out why it was not packed: 'vornix check' names what is missing.")
	TrySilent     = declare("try.silent", Warning, "A player who has only this bundle hears nothing there.", "Add the sound, or remove the mention of it.")
)
