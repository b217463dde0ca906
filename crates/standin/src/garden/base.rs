//! The base images of the garden.

use std::path::{Path, PathBuf};

use anyhow::{Context, anyhow};
use pondrix_core::image::Registries;
use pondrix_image::build::{Alone, BuildInput, build};
use pondrix_image::recipe::Recipe;
use pondrix_image::registry::{PushRequest, push};
use pondrix_image::{Image, Store};
use pondrix_sandbox::Launcher;

use super::samples::GLASSHOUSE_BASE;

/// The registry's name in images.
pub const REGISTRY: &str = "registry.fernhollow.test";
/// The statically linked busybox of Debian's package.
const BUSYBOX: &str = "/bin/busybox";

/// Whether a program is linked dynamically: a 64-bit ELF file with a segment PT_INTERP (elf(5)).
fn names_a_loader(program: &[u8]) -> bool {
    const PT_INTERP: u64 = 3;
    let number = |at: usize, bytes: usize| {
        let field = program.get(at..at + bytes).unwrap_or_default();
        field.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte))
    };
    let (table, size, count) = (number(32, 8), number(54, 2), number(56, 2));
    (0..count).any(|entry| usize::try_from(table + entry * size).is_ok_and(|at| number(at, 4) == PT_INTERP))
}

/// The base images, as they were built.
#[derive(Debug)]
pub struct BaseImages {
    store: Store,
    /// What `base/shell:1` is.
    pub shell: Image,
    /// What `base/web:1` is, which is built on it.
    pub web: Image,
}

impl BaseImages {
    /// Pushes them to where these registries are.
    ///
    /// # Errors
    /// When the registry does not take them.
    pub async fn push(&self, registries: &Registries) -> anyhow::Result<()> {
        for (name, image) in [("shell", &self.shell), ("web", &self.web)] {
            push_base(name, image, &self.store, registries).await?;
        }
        Ok(())
    }
}

async fn push_base(name: &str, image: &Image, store: &Store, registries: &Registries) -> anyhow::Result<()> {
    let repository = format!("{REGISTRY}/base/{name}").parse()?;
    let moving = ["1".parse()?];
    let request = PushRequest { image, repository: &repository, tags: &[], moving: &moving, base: None };
    push(&request, registries, store).await?;
    Ok(())
}

/// Lays out what the base images are made of: the sample's files, and the machine's busybox with all its names.
///
/// # Errors
/// When that is missing, with what to install; or when it cannot be written.
pub async fn base_files(context: &Path) -> anyhow::Result<()> {
    let missing = || {
        anyhow!(
            "the base image is made of a statically linked {BUSYBOX}, which is not there: apt-get install busybox-static"
        )
    };
    let program = std::fs::read(BUSYBOX).map_err(|_| missing())?;
    if names_a_loader(&program) {
        return Err(missing());
    }
    for (path, text) in GLASSHOUSE_BASE {
        let path = context.join(path);
        std::fs::create_dir_all(path.parent().unwrap_or(&path))?;
        std::fs::write(path, text)?;
    }
    let bin = context.join("bin");
    std::fs::create_dir_all(&bin)?;
    std::fs::copy(BUSYBOX, bin.join("busybox"))?;
    let names = tokio::process::Command::new(BUSYBOX).arg("--list").output().await?;
    for name in String::from_utf8_lossy(&names.stdout).lines().filter(|name| *name != "busybox" && !name.contains('/'))
    {
        std::os::unix::fs::symlink("busybox", bin.join(name))?;
    }
    Ok(())
}

/// Builds the base image from the machine's busybox and pushes it as `base/shell:1`, and as `base/web:1`
/// one built on it. What is made of them stays in the folder.
///
/// # Errors
/// When it cannot be made; with what to install where that is missing.
pub async fn base_images(folder: &Path, registries: &Registries, launcher: &Launcher) -> anyhow::Result<BaseImages> {
    let context = folder.join("checkouts/glasshouse-base");
    base_files(&context).await?;
    let store = Store::open(&folder.join("base"), launcher.ids())?;
    let garden = Garden { folder, registries, launcher, store, context };
    let shell = garden.make("shell", "image.recipe").await.context("the base image could not be made")?;
    let web = garden.make("web", "web.recipe").await.context("the image built on it could not be made")?;
    Ok(BaseImages { store: garden.store, shell, web })
}

/// What the base images are made of, and where they go.
struct Garden<'a> {
    folder: &'a Path,
    registries: &'a Registries,
    launcher: &'a Launcher,
    store: Store,
    context: PathBuf,
}

impl Garden<'_> {
    /// Builds a base image and pushes it as `base/NAME:1`.
    async fn make(&self, name: &str, recipe: &str) -> anyhow::Result<Image> {
        let text = std::fs::read_to_string(self.context.join(recipe))?;
        let faults = |faults: Vec<pondrix_core::pipeline::Fault>| {
            faults.iter().map(|fault| fault.render(recipe)).collect::<String>()
        };
        let recipe = Recipe::read(&text).map_err(|all| anyhow!("{}", faults(all)))?;
        let input = BuildInput {
            annotations: [("org.opencontainers.image.title".to_owned(), format!("Glasshouse base, {name}"))].into(),
            moment: 1_767_225_600,
            ..BuildInput::new(recipe, &self.context, &self.folder.join("base"))
        };
        let log = std::fs::File::create(self.folder.join(format!("base-{name}.log")))?;
        let outside = Alone {
            registries: self.registries.clone(),
            store: self.store.clone(),
            launcher: self.launcher.clone(),
            handle: tokio::runtime::Handle::current(),
            log,
            halted: false.into(),
        };
        let store = self.store.clone();
        let built = tokio::task::spawn_blocking(move || build(&input, &store, &outside)).await;
        let image = built??.image;
        push_base(name, &image, &self.store, self.registries).await?;
        Ok(image)
    }
}
