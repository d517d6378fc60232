"""the colour of links and a logo for dark mail programs"""

import sqlalchemy as sa
from alembic import op

revision = "0021"
down_revision = "0020"
branch_labels = None
depends_on = None
FOREIGN_KEY = "fk_letterhead_dark_logo_id_gallery_picture"


def upgrade() -> None:
    with op.batch_alter_table("letterhead") as table:
        table.add_column(sa.Column("link", sa.String(), server_default="", nullable=False))
        table.add_column(sa.Column("dark_logo_id", sa.Integer(), nullable=True))
        table.create_foreign_key(
            table.f(FOREIGN_KEY), "gallery_picture", ["dark_logo_id"], ["id"], ondelete="SET NULL"
        )


def downgrade() -> None:
    with op.batch_alter_table("letterhead") as table:
        table.drop_constraint(table.f(FOREIGN_KEY), type_="foreignkey")
        table.drop_column("dark_logo_id")
        table.drop_column("link")
