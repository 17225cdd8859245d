"""What is said beside results that a life may hang on."""

from __future__ import annotations

CHECK_CAUTION = (
    "These checks rest on models and usual figures; they certify nothing. Local electrical code, the makers' data and a qualified "
    "electrician decide."
)

FAULT_CAUTION = (
    "A model's estimate of one fault at a time, its times and temperatures without a band; it certifies nothing. Two "
    "independent cut-outs, a fuse on the mat and one on the plate, an earthed plate and a smoke alarm are usual; local "
    "electrical code, the makers' data and a qualified electrician decide."
)

TRIAL_CAUTION = (
    "Plate, strip and sheet are hot: wear gloves, and keep fingers out of the magnet's way. A spring scale comes free with a jerk: "
    "pull away from the face, with eye protection."
)
