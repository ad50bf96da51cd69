package finding

// Every kind of finding there is, by area. A sentence of Why speaks of players; Do of the maintainer.
var (
	TOMLSyntax = declare("toml.syntax", Error, "Nothing in this file can be used until it is valid TOML.",
		"Correct the line; TOML wants key = value, text in quotes.")
	TOMLUnknown = declare("toml.unknown-key", Error,
		"A misspelt setting does nothing, silently, and the release goes out without it.",
		"Correct the spelling or remove the line.")
	TOMLValue = declare("toml.value", Error, "The setting can't be used, so what it rules is undecided.",
		"Give a value of the expected kind.")

	AcceptUnused = declare("accept.unused", Note, "An acceptance that matches nothing may hide the next, real case.",
		"Remove the [[accept]] block, or correct its finding or where.")

	ProfileDead = declare("profile.no-effect", Warning, "Its author relies on a rule that does not exist.",
		"Correct the name, or remove the line.")
	ProfileContradicts = declare("profile.contradicts", Warning, "Maps that the rules allow do not work in the game.",
		"Make the two agree.")
	ProfileMode = declare("profile.mode-contained", Note,
		"Servers that search by part of a word start maps in the wrong mode.",
		"If the game compares whole words, all is well.")

	StepFailed = declare("step.failed", Error, "What it makes would be missing from the release.",
		"Correct the command under [[step]], or what it reads.")

	MapSyntax = declare("map.syntax", Error, "The map can't be compiled, so it would be missing from the release.",
		"Correct the line.")
	MapDuplicate = declare("map.duplicate-name", Error, "Two things with one name can't be told apart by the game.",
		"Give one of them another name.")
	MapName = declare("map.name-differs", Error,
		"A game that looks a map up by its file finds another name inside and does not load it.",
		"Make the name after 'map' and the file name the same.")
	MapFile = declare("map.file", Error,
		"The map can't be compiled without it, so it would be missing from the release.",
		"Correct the name, or add the file.")
	MapCircle = declare("map.circle", Error, "It would never end, so the map can't be compiled.",
		"Take one step out of the circle.")
	MapPrefab = declare("map.prefab", Error, "The map can't be compiled, so it would be missing from the release.",
		"Correct the name, or name the prefab's file with from=.")
	MapHuge = declare("map.huge", Error, "No game loads such a map, and this machine may not either.",
		"Check the numbers; one of them is probably a slip.")
	SolidFlat = declare("solid.flat", Error, "It would not be there in the game: a solid needs a volume.",
		"Correct its points, or remove it.")
	AreaOutside = declare("area.outside", Error, "No player can enter it, so what it should do never happens.",
		"Correct its cells or its level.")
	MapEmpty = declare("map.empty", Error,
		"Players would fall into nothing: the map has neither solids nor a grid.", "Add a solid or a grid.")
	MapTitle = declare("map.no-title", Warning, "Players see the file name in lists instead of a title.",
		"Add title=\"...\" to the map line.")
	MapPlayers = declare("map.no-players", Warning, "Players can't tell for how many players the map is meant.",
		"Add players=2..8 (least and most) to the map line.")

	StageMemory = declare("stage.memory", Error, "The stage was left out, so the map is not finished.",
		"Allow more with --memory, or ask for less: fewer lightmap texels per metre, a smaller map.")
	ProbeBuried = declare("probe.buried", Warning, "Surfaces near by mirror the inside of a solid: they look black.",
		"Move it out of the solid.")
	LightBuried = declare("light.buried", Warning, "It lights nothing: the solid keeps all of its light.",
		"Move it out of the solid.")
	NavCut = declare("navigation.cut-off", Warning, "Players who start there can't take part.",
		"Build them a way, or move the spawns.")
	MapFar = declare("map.far", Warning,
		"So far out places are known to some millimetres only: surfaces flicker and things tremble.",
		"Move the map towards 0,0,0.")
	MapDark = declare("map.dark", Warning,
		"The map has no light at all, so the game shows it without any, or black.", "Add a sky or lights.")
	LightCoarse = declare("light.coarse", Warning, "Shadows on it are blurred, unlike those next to it.",
		"Split the solid, or give the face fewer lightmap texels.")
	LightMany = declare("light.many", Error, "The map stays dark: there are too many lights to compute.",
		"Use fewer lights; one of the repeats probably has a slip in its count.")

	MaterialMissing = declare("material.missing", Error, "The surface shows the game's missing pattern.",
		"Correct the name, or add the material file.")
	TextureMissing = declare("texture.missing", Error, "The surface shows the game's missing pattern.",
		"Correct the name in the material, or add the image.")
	SoundMissing = declare("sound.missing", Warning, "It stays silent there in the game.",
		"Correct the name, or add the sound file.")
	RefForm = declare("reference.form", Error, "The game looks in the wrong place and finds nothing.",
		"Write the path from the kind's folder, with forward slashes and without an ending.")
	RefEnding = declare("reference.ending", Error,
		"The game adds the ending itself, looks for a file with two and finds nothing.", "Leave the ending out.")
	RefAbsolute = declare("reference.absolute", Error,
		"The path exists on your machine only; everybody else sees the missing pattern.",
		"Write the path from the kind's folder.")
	RefCase = declare("reference.case", Error,
		"It works on Windows and is missing on the server, which tells capitals from small letters.",
		"Write the name as the file is called.")
	AssetUnused = declare("asset.unused", Note,
		"It will not ship; if a map should have used it, players will miss it.",
		"Use it, include it under [pack], or let 'vornix sweep' move it away.")
	AssetTwin = declare("asset.same-name", Error,
		"Two sources would become one file in the release, and only one of them would win.", "Keep one of the files.")

	TextureDecode = declare("texture.unreadable", Error,
		"The texture can't be made, so surfaces would show the missing pattern.", "Export the image again.")
	TextureSize = declare("texture.size", Error, "The game refuses textures whose size breaks its rule.",
		"Resize the image.")
	TextureResized = declare("texture.resized", Note,
		"Resizing blurs a little, and stretches when the sides change by different factors.",
		"Paint the image in that size when it matters.")
	TextureAlpha = declare("texture.alpha-lost", Warning, "See-through parts become solid in the game.",
		"Choose format = \"auto\" for it under [[texture]].")
	TextureColour = declare("texture.colour-lost", Warning,
		"The surface shows other colours than the artist painted.",
		"Choose format = \"auto\" for it under [[texture]].")
	TextureLight = declare("texture.light-lost", Warning,
		"What is brighter than white becomes plain white: lamps and skies look flat.",
		"Allow bc6h or rgba16f for it, or choose format = \"auto\".")
	TextureMisnamed = declare("texture.misnamed", Warning,
		"Other programs believe the ending and refuse the file, or show it wrongly.",
		"Give the file the ending of what it is.")
	TextureNormal = declare("texture.normal-as-colour", Warning,
		"Light falls on the surface from wrong directions: sRGB bends every one of them.",
		"Add kind = \"normal\" to its recipe under [[texture]], or name it as normal in the material.")
	TextureNotUnit = declare("texture.not-normal", Warning, "Light falls on the surface from wrong directions.",
		"Export it as a normal map; of a height image one is made with from_height = true.")
	TextureOpaque = declare("texture.no-alpha", Warning, "Nothing is seen through there: the image has no alpha.",
		"Add alpha to the image, or take see_through out of the material.")
	TextureRecipe = declare("texture.no-effect", Warning, "What it says is done to no image.",
		"Correct the pattern: it is matched against paths inside the folder of images. Or remove the block.")
	TextureSidecar = declare("texture.sidecar", Error, "What it says is applied to nothing.",
		"Put the image beside it, or name its images.")
	TextureFormat = declare("texture.format", Error, "The game can't read the texture.",
		"Choose one of the formats that the profile lists.")

	MaterialKind = declare("material.texture-kind", Error,
		"The surface is lit wrongly: colours, normals and data are read differently.",
		"Name a texture of the right kind, or correct its recipe's kind.")
	MaterialInherits = declare("material.inherits", Error,
		"The material has no values, so the surface shows the missing pattern.", "Correct the name after inherits.")

	ModelMissing = declare("model.missing", Error, "The game shows nothing in its place.",
		"Correct the name, or add the model.")
	ModelUnreadable = declare("model.unreadable", Error, "The game shows nothing in its place.",
		"Export the model again as GLB, with its meshes as triangles.")
	ModelMaterial = declare("model.material", Error, "Those surfaces show the missing pattern.",
		"Give every face a material whose name is that of a file in the folder of materials.")
	ModelLarge = declare("model.large", Warning, "The game draws it slowly, or refuses it.",
		"Simplify the model, or split it.")
	ModelImages = declare("model.images", Note,
		"The game shows the textures of the materials; what the file carries is never seen.",
		"Export without images, or add them to the folder of images.")

	SpriteMissing = declare("sprite.missing", Error, "Nothing is drawn there in the game.",
		"Correct the name, or add the sheet.")
	SpriteState = declare("sprite.state", Error, "A state that is misspelt shows nothing, without a word.",
		"Use one of the sheet's states.")
	SpriteImage = declare("sprite.image", Error, "The sprite can't be made, so nothing is drawn.",
		"Correct the name, or add the image.")
	SpriteFrame = declare("sprite.frame", Error, "The state would show nothing, or a part of another frame.",
		"Correct the numbers, or the size of a frame.")
	SpritePages = declare("sprite.pages", Error, "Frames would be missing from the game.",
		"Correct pages in the sheet.")
	SpriteBlank = declare("sprite.blank", Note, "The sprite vanishes for the length of that frame.",
		"Paint the frame, or leave it out.")

	PictureMissing = declare("picture.missing", Error,
		"The game shows a blank in its place, or its missing pattern.",
		"Add a camera line to the map, or name an image for it under [[picture]].")
	PictureCamera = declare("picture.camera", Error, "The picture can't be taken, and the game shows a blank.",
		"Correct the name under [[picture]], or add the camera to the map.")
	PictureUnknown = declare("picture.unknown", Warning, "What the recipe says is done to no picture.",
		"Correct it, or remove the recipe.")
	PictureImage = declare("picture.image", Error, "The picture can't be made, and the game shows a blank.",
		"Correct the name under [[picture]], or add the image.")
	PictureSmall = declare("picture.small", Warning, "The picture looks blurred.",
		"Use a larger image, or a camera in the map.")
	PictureCropped = declare("picture.cropped", Warning, "What matters in the image may be cut off.",
		"Use an image of about that ratio, set focus on what matters, or crop = \"whole\".")
	PictureRatio = declare("picture.ratio", Error, "The game stretches it, or refuses it.",
		"Cut the image to the ratio, or let Vornix do it: crop = \"fill\", without as_is.")
	PictureSize = declare("picture.size", Error, "The game refuses it, or shows its missing pattern.",
		"Resize it, or leave as_is out: then Vornix does it.")
	PictureKind = declare("picture.kind", Error, "The game can't read it.",
		"Export it in that form, or leave as_is out: then Vornix writes it.")
	PictureHeavy = declare("picture.heavy", Error, "The upload is refused.",
		"Use a calmer image, blur or darken it, or lower least_quality in the profile if that is the game's true limit.")
	PictureProgressive = declare("picture.progressive", Error, "Simple readers can't read it, and say nothing.",
		"Export it as baseline, or leave as_is out: then Vornix writes it.")
	PictureText = declare("picture.text", Warning, "Players see boxes instead of letters.",
		"Name a font that has them with font under [[picture]], or change the text.")
	PictureBlank = declare("picture.blank", Warning, "Players see a picture of one colour.",
		"Move the camera, or change its exposure.")
	CameraBuried = declare("camera.buried", Error, "Its pictures show the inside of a wall, or nothing.",
		"Move it into the open.")

	MaterialSurface = declare("material.surface", Error,
		"Footsteps and friction come from the surface; the game knows only those in its list.",
		"Choose one of the profile's surfaces.")

	SpawnOutside = declare("spawn.outside", Error, "A player who appears there falls, or is removed at once.",
		"Move the spawn onto the ground, inside the map.")
	SpawnCrowd = declare("spawn.crowded", Warning, "Players who appear at the same moment are stuck in one another.",
		"Move one of the spawns away.")
	SpawnMenu = declare("spawn.in-menu", Error, "The menu would start a game instead of showing the scene.",
		"Remove the spawn, or purpose=menu.")
	CameraNone   = declare("camera.none", Error, "The menu has nothing to look through.", "Add a camera line.")
	ProbeMissing = declare("probe.uncovered", Warning, "Shiny surfaces there mirror another place, or nothing.",
		"Add a probe, or give one more reach.")
	ObjectOut = declare("object.outside", Warning,
		"No player gets there, so it does nothing; it was probably left behind.", "Move it into the map, or remove it.")
	ItemUnknown = declare("item.unknown", Error, "The game passes over things that it does not know, without a word.",
		"Use one of the kinds that the profile lists.")
	ItemProperty = declare("item.property", Error, "The game reads something else there, or refuses the map.",
		"Give the property a value as the profile asks for.")
	MapLeak = declare("map.leak", Error,
		"A sealed map with a gap is drawn as a whole all the time, and light and sound get out.",
		"Close the gap, or remove sealed=yes; 'vornix inspect MAP.vnx --picture leak.png' draws the way.")
	SolidHidden = declare("solid.hidden", Note, "It costs work and is never seen.",
		"Remove it, unless it only stops players.")
	DensityJump = declare("texture.density", Note, "One of the surfaces looks blurred beside the other.",
		"Change scale= of one of the faces, or size in its material.")
	NameRule = declare("map.name-rule", Error, "The game does not find a map of that name.",
		"Rename the map and its file.")
	TerrainSize = declare("terrain.size", Error, "The game can't load ground of that size.", "Resize the grey image.")

	SpawnNone = declare("spawn.none", Error, "No player can enter the map.", "Add a spawn line.")
	SpawnTeam = declare("spawn.no-team", Error, "Players of that team can't enter the map.",
		"Add a spawn with that team, or one without a team, which serves any.")
	SpawnFew = declare("spawn.few", Warning, "When the map is full, players wait or appear inside one another.",
		"Add spawns, or lower the most players.")
	SpawnBlocked = declare("spawn.blocked", Error, "A player who appears there is stuck in a wall.",
		"Move the spawn out of the solid.")
	TeamUnknown = declare("team.unknown", Error, "The game ignores a spawn of a team it does not know.",
		"Use one of the game's teams, or leave team= out.")
	ModeUnknown = declare("mode.unknown", Error, "The game never offers the map in that mode.",
		"Use one of the game's modes.")
	ModeInside = declare("mode.contained", Warning,
		"Servers that search by part of a word start the map in the wrong mode.",
		"Choose one of the two, or accept the finding if the game compares whole words.")
	LightKind = declare("light.kind", Error, "The game can't show this kind of light: it stays dark there.",
		"Use one of the kinds that the profile lists.")
	VolumeBelow = declare("volume.none-below", Error, "Players who fall off the map fall for ever.",
		"Add a volume with effect=remove below the lowest solid, as wide as the map.")
	ItemRequired = declare("item.required", Error, "The game does not start the map without it.", "Add the item.")
	ItemLimit    = declare("item.limit", Error, "Those beyond the game's limit never appear, without a word.",
		"Remove some.")
	FormWrong = declare("map.form", Error, "The game can't play this kind of map.",
		"Use solids for a game of solids, grids for a game of tiles.")
	GridRow = declare("grid.row", Error, "Cells would shift: walls and doors end up elsewhere.",
		"Make every row as long, and as many rows, as cells= says.")
	GridSymbol = declare("grid.symbol", Error, "The cell has no tile, so there is a hole in the map.",
		"Add a legend line for the symbol, or correct the row.")

	PathCase = declare("path.case", Error,
		"It works on Windows and is missing on the server, which tells capitals from small letters.",
		"Rename the file in small letters, and where it is mentioned.")
	PathChars = declare("path.characters", Error,
		"The game, or somebody's system, can't open a file of that name.", "Rename the file.")
	PathLong = declare("path.long", Error, "The game cuts longer paths off and does not find the file.",
		"Shorten the name or its folder.")
	FileUnreadable = declare("file.unreadable", Error, "What is built from it would be missing from the release.",
		"Check who may read it, and whether another program has it open.")
	FileStray = declare("file.stray", Note,
		"It does not ship, but it makes the project harder to read and is easily mistaken for the real one.",
		"Let 'vornix sweep' move it to quarantine.")

	AddonField = declare("addon.field", Error, "The game or the workshop refuses the addon, or cuts the text off.",
		"Correct the field under [addon].")
	AddonFile = declare("addon.file", Error, "The game or the workshop does not get the file.",
		"Correct what it says, or the profile.")
	AddonFlag = declare("addon.flag", Error, "Players and servers choose by what it says, and get something else.",
		"Correct the flag under [addon], or what ships.")
	AddonAgree = declare("addon.agree", Error, "The game does not find what belongs together.",
		"Rename one of them.")
	AddonPicture = declare("addon.picture", Error, "The page shows a blank, or the upload is refused.",
		"Name an image of that size and form, or let 'vornix shoot' make it.")
	AddonGame = declare("addon.game-version", Error,
		"Players with an older game download it, and it does not work.", "Raise game_version under [project].")
	AddonVersion = declare("addon.version", Error, "No player gets it: those who have the later version keep that.",
		"Raise the version under [project].")
	AddonLeftover = declare("addon.placeholder", Warning, "Players read the placeholder on the addon's page.",
		"Write the real text.")

	WorkshopText = declare("workshop.text", Error, "The workshop refuses it, so the release would not appear there.",
		"Change it in the file that is named, or under [page].")
	WorkshopPicture = declare("workshop.picture", Error,
		"The workshop refuses the picture, and with it the whole page.",
		"Make another one with 'vornix shoot', or leave it out under [page].")
	WorkshopFile = declare("workshop.file", Error, "The workshop refuses the file, so players get no new version.",
		"Make it smaller, or name it as the workshop wants.")
	WorkshopMissing = declare("workshop.missing", Warning, "The item can't be shown to players before it is there.",
		"Add it under [page].")

	LanguageMissing = declare("language.missing", Warning,
		"Players who read that language see the text in another one.",
		"Add the text, or an accepted finding if it is the same in both.")
	LanguageLeft = declare("language.left-over", Warning,
		"No player ever sees it; it was probably renamed, and the new name has no text.",
		"Remove it, or give it the name that is used now.")
	LanguageUnknown = declare("language.unknown", Warning, "No player ever sees the texts in it.",
		"Name the file by a language that the game shows.")

	IndexSame = declare("index.unchanged", Warning, "Everybody downloads it again for nothing.",
		"Leave the version as it was until something changes.")
	IndexAddress = declare("index.address", Warning, "Players' downloads may fail there.",
		"Correct base under [index]: the address of the folder that the files themselves lie in.")

	TreeEdited = declare("tree.edited", Warning,
		"The change is not in the release: this file is made from the project.",
		"Say it in vornix.toml: 'vornix addon import' takes it over from the file.")
	TreeForeign = declare("tree.foreign", Warning,
		"It was not made by the build, so it does not ship; someone may believe that it does.",
		"Delete it, or move it to the sources.")

	TryUnreadable = declare("try.unreadable", Error, "A player who has only this bundle can't load it.",
		"Build and pack again; if it stays, the disk may be at fault.")
	ContentMissing = declare("file.missing", Error, "What it should do or say in the game does not happen.",
		"Correct the name, or add the file.")
	MapMissing = declare("map.missing", Error, "The game is told to load a map that does not exist.",
		"Correct the name, or add the map.")
	SpawnMissing = declare("spawn.missing", Error, "Players appear nowhere, or somewhere else.",
		"Correct the name, or name a spawn of the map so.")
	TextForm     = declare("text.form", Error, "The game stops reading it there, or refuses it.", "Correct the line.")
	TextEncoding = declare("text.encoding", Error, "Players read wrong letters, or the game refuses the file.",
		"Save it in that encoding, or write the letter otherwise.")
	TextStyle = declare("text.style", Warning,
		"Some games read wrong letters at its beginning or at the ends of lines, or stop there.",
		"Save it so, or let Vornix do it: convert = true in the profile's [[content]].")
	FileTwin = declare("path.twin", Warning,
		"On Windows and macOS only one of them can be there, and which one is chance.", "Rename one of them.")
	FileSame = declare("file.duplicate", Note, "Players download the same bytes twice.",
		"Let both places name one file.")
	FileOverrides = declare("file.overrides", Warning,
		"Everything that uses the game's own file shows yours instead, in this release's maps and beyond.",
		"Give the file another name, or accept the finding when that is what it is for.")

	SoundUnreadable = declare("sound.unreadable", Error, "The game is silent there, or stops.",
		"Export the sound again.")
	SoundForm = declare("sound.form", Error, "The game can't read it, and is silent there.",
		"Export it in one of the forms that the profile lists.")
	SoundRate = declare("sound.rate", Error, "The game plays it too high or too low, or not at all.",
		"Export it with one of the rates that the profile lists.")
	SoundChannels = declare("sound.channels", Error, "The game plays it from no place, or not at all.",
		"Export it with as many channels as the profile says.")
	SoundBits = declare("sound.bits", Error, "The game plays noise, or nothing.",
		"Export it with as many bits a sample as the profile says.")
	SoundLong = declare("sound.long", Warning, "The game cuts it off, or takes memory that it does not have.",
		"Shorten it.")
	SoundLoop = declare("sound.loop", Warning, "It stops after once, or repeats for ever.",
		"Set its loop points, or take them out.")
	SoundClipped = declare("sound.clipped", Warning, "It crackles.", "Export it softer.")
	SoundSilence = declare("sound.silence", Note,
		"It comes late, or holds up what follows, and the silence is downloaded too.", "Cut the silence off.")

	GuardSource = declare("guard.source", Error,
		"Anyone who downloads the release has your sources, and can pass your work off as theirs.",
		"Leave it out of [pack] include.")
	GuardBackup = declare("guard.backup", Error,
		"It makes the download larger, and may hold what was taken out on purpose.",
		"Leave it out of [pack] include, or sweep it away.")
	GuardSecret = declare("guard.secret", Error, "Anyone who downloads the release can act in your name.",
		"Take it out of the file. If it was ever published or shared, revoke it where it was issued and make a new one: removing it here does not make it safe again.")
	GuardHome = declare("guard.home", Error,
		"It tells strangers who you are and how your machine is set up, and it works nowhere else.",
		"Write the path from the project's folder, or save the file again without it.")

	SharedAway = declare("shared.away", Note,
		"All is made on this machine, which takes longer; the result is the same.",
		"Look whether the place is up and lets you in; 'vornix status' says how it did lately.")
	SharedUntrusted = declare("shared.untrusted", Note,
		"The project's author could put results of their own into your release.",
		"See what would be shared, and allow it once: vornix trust.")
	SharedWrong = declare("shared.wrong", Warning,
		"Somebody's disk is damaged, or somebody puts in what he should not. It was made on this machine instead.",
		"Find out who may write there, and remove what is wrong.")

	FarmAway = declare("farm.away", Note,
		"All is made on this machine, which takes longer; the result is the same.",
		"Look whether its host runs, and whether the key is the right one: vornix farm status.")
	FarmDeclined = declare("farm.declined", Note, "What it declined was done by others.",
		"Give all machines of the farm the same version of Vornix.")
	FarmEmpty = declare("farm.empty", Note, "All was made on this machine.",
		"Start a worker on another machine: vornix farm worker.")
	FarmWrong = declare("farm.wrong", Warning,
		"What it had built for this build was rebuilt. Its memory or its processor may be damaged.",
		"Take the machine out of the farm until you know what it has.")

	TryMissing = declare("try.missing", Error, "A player who has only this bundle sees the missing pattern there.",
		"Find out why it was not packed: 'vornix check' names what is missing.")
	TryStuck = declare("try.unreachable", Warning, "A player who starts there can't reach what the game is about.",
		"Build a way, or move the spawn.")
	TryLoose = declare("try.loose", Warning,
		"The game takes the loose file: you test and play something else than what players get.",
		"Move it away, or let 'vornix try --installed DIR --set-aside' do it.")
	TrySilent = declare("try.silent", Warning, "A player who has only this bundle hears nothing there.",
		"Add the sound, or remove the mention of it.")
)
