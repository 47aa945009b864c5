"""The solver: rigid bodies, joints and contacts in small substeps."""

import artuline.core.kernel_cache  # noqa: F401  before any kernel is made
