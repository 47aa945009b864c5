"""What a plain installation must be able to do without anything that only tests need: window, figure, obstacle from a mesh, hull group."""

import os
import tempfile
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ["XDG_STATE_HOME"] = tempfile.mkdtemp()


def main() -> None:
    from PySide6.QtCore import QEventLoop, QTimer

    from artuline.demo.figures import DATA
    from artuline.desk.application import make_application
    from artuline.desk.window import Window

    def wait(milliseconds: int) -> None:
        loop = QEventLoop()
        QTimer.singleShot(milliseconds, loop.quit)
        loop.exec()

    app = make_application()
    window = Window()
    window.show()

    def finish() -> None:
        wait(50)
        while window.desk.jobs.busy:
            wait(20)

    told: list[str] = []
    window.desk.jobs.failed.connect(told.append)
    window.session.failed.connect(told.append)
    window.files.open_path(DATA / "deckhand.glb")
    finish()
    window.desk.act("fit")
    finish()
    post = Path(tempfile.mkdtemp()) / "post.obj"
    corners = [(x, y, z) for x in (-1, 1) for y in (0, 1) for z in (-1, 1)]
    faces = [
        (1, 2, 4),
        (1, 4, 3),
        (5, 7, 8),
        (5, 8, 6),
        (1, 5, 6),
        (1, 6, 2),
        (3, 4, 8),
        (3, 8, 7),
        (1, 3, 7),
        (1, 7, 5),
        (2, 6, 8),
        (2, 8, 4),
    ]
    post.write_text(
        "".join(f"v {x} {y} {z}\n" for x, y, z in corners) + "".join(f"f {a} {b} {c}\n" for a, b, c in faces)
    )
    window.room("Blend").commands.forces.obstacle_from(post, "mesh")
    window.room("Blend").commands.forces.obstacle_from(post, "hull")
    window.session.select("deckhand", frozenset({"foot_l"}))
    window.room("Bodies").commands.set_fit_option("kind", "hull group")
    window.room("Bodies").commands.fit_selected()
    finish()
    scene = window.session.scene
    assert not told, told
    assert len(scene.obstacles) == 2 and len(scene.figures[0].bodies) > 10
    assert all(s.kind == "hull" for s in scene.figures[0].body_of["foot_l"].shapes)
    assert window.stage.problem == "", window.stage.problem
    window.session.stack.setClean()
    window.close()
    app.quit()
    print("a plain installation works")


if __name__ == "__main__":
    main()
